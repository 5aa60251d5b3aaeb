import { mkdtempSync, rmSync, statSync, truncateSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { readBytes } from '@/core/block/device'
import { MemoryDevice } from '@/core/block/memory'
import { MIB } from '@/core/bytes/size'
import { planImage } from '@/core/copy/plan-whole'
import { convertFile } from '@/host/convert'
import { writeImage } from '@/host/write-image'
import { diskDigest, mountedDigest, digestOfBytes } from '../../tests/support/image-files'
import { openDrive } from './open-drive'

const SIZE = 8 * 1024 * 1024
let folder: string
const common = { logicalSectorSize: 512 as const, physicalSectorSize: 4096, unreadable: [] }

beforeAll(async () => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-open-'))
  const raw = path.join(folder, 'disk.img')
  writeFileSync(raw, 'first')
  truncateSync(raw, SIZE)
  await convertFile(raw, path.join(folder, 'disk.vhdx'), { to: 'vhdx', time: 0 })
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

describe('a drive of the bench', () => {
  it.each(['disk.img', 'disk.vhdx'])('that is the image %s is opened for reading only', async (name) => {
    const drive = await openDrive({ ...common, file: path.join(folder, name), by: 'image' }, { writable: false })
    const bytes = new Uint8Array(512)
    await drive.device.read(0, bytes)
    expect(Buffer.from(bytes.subarray(0, 5)).toString()).toBe('first')
    await expect(drive.device.write(0, bytes)).rejects.toThrow(/reading only/)
    await drive.close()
  })

  it('that is a raw image can be the target of a copy, one of another format cannot', async () => {
    const file = path.join(folder, 'disk.img')
    const drive = await openDrive({ ...common, file, by: 'image' as const }, { writable: true })
    await drive.device.write(4096, new Uint8Array(512).fill(7))
    await drive.device.flush()
    await drive.close()
    const again = await openDrive({ ...common, file, by: 'image' as const }, { writable: false })
    const bytes = new Uint8Array(512)
    await again.device.read(4096, bytes)
    expect(bytes[0]).toBe(7)
    await again.close()
    const other = { ...common, file: path.join(folder, 'disk.vhdx'), by: 'image' as const }
    await expect(openDrive(other, { writable: true })).rejects.toThrow(/Only a raw image can be written to/)
  })

  it.each([
    ['vhdx', MIB],
    // Each block has a map in front of it, and begins at a round place.
    ['vhd', 2 * MIB + 4096],
  ] as const)(
    'that is a %s is repaired where it lies, and grows by what it has no place for',
    async (to, blockBytes) => {
      const file = path.join(folder, `in place.${to}`)
      const source = new MemoryDevice(64 * MIB)
      await source.write(8 * MIB, new Uint8Array(512).fill(3))
      await writeImage(await planImage(source), file, { to, note: '', work: '', time: 0, onStep: async () => {} })
      const image = { ...common, file, by: 'image' as const }
      const { device, close } = await openDrive(image, { writable: true, inPlace: true })
      await device.write(8 * MIB + 512, new Uint8Array(512).fill(9))
      const before = statSync(file).size
      await device.write(40 * MIB, new Uint8Array(512))
      expect(statSync(file).size).toBe(before)
      // Over the end of one block and into another.
      await device.write(42 * MIB - 512, new Uint8Array(MIB + 512).fill(1))
      await device.flush()
      const read = new Uint8Array(512)
      await device.read(42 * MIB, read)
      expect(read[0]).toBe(1)
      await close()
      expect(statSync(file).size).toBe(before + 2 * blockBytes)
      await source.write(8 * MIB + 512, new Uint8Array(512).fill(9))
      await source.write(42 * MIB - 512, new Uint8Array(MIB + 512).fill(1))
      expect(diskDigest(file, to)).toBe(digestOfBytes(await readBytes(source, 0, source.size)))
      expect(mountedDigest(file, to)).toBe(diskDigest(file, to))
      const again = await openDrive(image, { writable: false })
      const bytes = new Uint8Array(1024)
      await again.device.read(8 * MIB, bytes)
      expect([bytes[0], bytes[512]]).toEqual([3, 9])
      await again.close()
    },
  )

  it('that fails reads all but its lost sectors, and those again once they are written', async () => {
    const drive = {
      ...common,
      file: path.join(folder, 'disk.img'),
      by: 'file' as const,
      unreadable: [{ firstLba: 100, count: 3 }],
    }
    const { device, close } = await openDrive(drive, { writable: true })
    await expect(device.read(99 * 512, new Uint8Array(1024))).rejects.toMatchObject({ sectors: [100] })
    await device.read(99 * 512, new Uint8Array(512))
    await device.write(100 * 512, new Uint8Array(512))
    await expect(device.read(100 * 512, new Uint8Array(2048))).rejects.toMatchObject({ sectors: [101, 102] })
    await close()
  })

  it('that stores wrongly takes every write, and gives back another bit in those sectors alone', async () => {
    const drive = {
      ...common,
      file: path.join(folder, 'disk.img'),
      by: 'file' as const,
      misstores: [
        { firstLba: 7, count: 2 },
        { firstLba: 12, count: 1 },
      ],
    }
    const { device, close } = await openDrive(drive, { writable: true })
    // Begins inside the first run and ends before the second.
    await device.write(8 * 512, new Uint8Array(4 * 512).fill(6))
    const bytes = new Uint8Array(6 * 512)
    await device.read(7 * 512, bytes)
    await close()
    const wrong = Array.from(bytes.entries()).filter(([at, byte]) => byte !== (at >= 512 && at < 5 * 512 ? 6 : 0))
    expect(wrong).toEqual([[512, 7]])
  })

  it('that is an image fails as one with bytes of its own', async () => {
    const image = { ...common, file: path.join(folder, 'disk.vhdx'), by: 'image' as const }
    const { device, close } = await openDrive(
      { ...image, unreadable: [{ firstLba: 3, count: 1 }] },
      { writable: false },
    )
    await device.read(0, new Uint8Array(3 * 512))
    await expect(device.read(0, new Uint8Array(4 * 512))).rejects.toMatchObject({ sectors: [3] })
    await close()
  })
})
