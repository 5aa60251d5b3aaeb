import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '../../block/memory'
import { OverlayDevice } from '../../block/overlay'
import { CoreError } from '../../errors'
import { openFileSystem } from '..'
import type { NewFile } from '../new-files'
import { BOOT_SECTOR } from './layout'
import { formatFat32 } from './format'
import { relocateFat } from '.'
import { sameBytes } from '../../testing'

const MIB = 1024 * 1024

async function volumeWith(files: NewFile[], dirty = false) {
  const device = new MemoryDevice(100 * MIB)
  await formatFat32(device, { label: 'ESP', serial: 0xcafe0001, startSector: 2048, files, dirty })
  return device
}

const FILES: NewFile[] = [
  { path: '/EFI/BOOT/BOOTX64.EFI', content: new Uint8Array(5000).fill(7) },
  { path: '/EFI/Harbour Systems/Boot/loader.efi', content: new Uint8Array(70_000).fill(9) },
  { path: '/EFI/Harbour Systems/a very long name that needs three rows.cfg', content: new Uint8Array([1, 2, 3]) },
  { path: '/empty.txt', content: new Uint8Array() },
]

describe('a FAT32 volume', () => {
  it('gives back label, state and every file as it was made', async () => {
    const volume = (await openFileSystem(await volumeWith(FILES)))!
    expect([volume.name, volume.label, volume.serial, volume.state]).toEqual(['FAT32', 'ESP', 'CAFE-0001', 'clean'])
    for (const file of FILES) {
      expect('content' in file && sameBytes(await volume.readFile(file.path), file.content)).toBe(true)
    }
    expect((await volume.list('/EFI/HARBOUR SYSTEMS')).map((e) => e.name)).toEqual([
      'Boot',
      'a very long name that needs three rows.cfg',
    ])
  })

  it('has nothing on it of what its place held before', async () => {
    const device = new MemoryDevice(100 * MIB)
    for (let at = 0; at < device.size; at += MIB) await device.write(at, new Uint8Array(MIB).fill(0x45))
    await formatFat32(device, { label: 'ESP', serial: 1, startSector: 2048, files: FILES })
    const volume = (await openFileSystem(device))!
    const below = async (path: string): Promise<string[]> => {
      const names: string[] = []
      for (const { name, kind } of await volume.list(path)) {
        names.push(`${path}/${name}`)
        if (kind === 'directory') names.push(...(await below(`${path}/${name}`)))
      }
      return names
    }
    expect((await below('')).sort()).toEqual([
      '/EFI',
      '/EFI/BOOT',
      '/EFI/BOOT/BOOTX64.EFI',
      '/EFI/Harbour Systems',
      '/EFI/Harbour Systems/Boot',
      '/EFI/Harbour Systems/Boot/loader.efi',
      '/EFI/Harbour Systems/a very long name that needs three rows.cfg',
      '/empty.txt',
    ])
    const reserved = new Uint8Array(32 * 512)
    await device.read(0, reserved)
    expect(reserved.subarray(2 * 512, 6 * 512).every((byte) => byte === 0)).toBe(true)
  })

  it('counts boot area, tables and taken clusters as used, and no more', async () => {
    const used = async (files: NewFile[]) => {
      let sum = 0
      for await (const { length } of (await openFileSystem(await volumeWith(files)))!.usedExtents()) sum += length
      return sum
    }
    const clusterSize = (await openFileSystem(await volumeWith([])))!.clusterSize
    const file = { path: '/FILE.BIN', content: new Uint8Array(10 * clusterSize - 5) }
    expect((await used([file])) - (await used([]))).toBe(10 * clusterSize)
  })

  it('reports a volume that was not closed', async () => {
    const volume = (await openFileSystem(await volumeWith([], true)))!
    expect(volume.state).toBe('dirty')
    expect(volume.findings.map((f) => f.code)).toEqual(['fat.dirty'])
  })

  it('keeps note of where it starts in both boot sectors', async () => {
    const device = await volumeWith(FILES)
    await relocateFat(device, 4096)
    for (const at of [0, 6 * 512]) {
      const bytes = new Uint8Array(512)
      await device.read(at, bytes)
      expect(BOOT_SECTOR.read(bytes).hiddenSectors).toBe(4096)
    }
  })

  it('never does worse than an error of its own on damaged bytes', async () => {
    const original = await volumeWith(FILES)
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.tuple(fc.nat({ max: 3 * MIB }), fc.nat({ max: 255 })), { minLength: 1, maxLength: 60 }),
        async (changes) => {
          const device = new OverlayDevice(original)
          for (const [at, value] of changes) {
            const sector = Math.floor(at / 512) * 512
            const bytes = new Uint8Array(512)
            await device.read(sector, bytes)
            bytes[at - sector] = value
            await device.write(sector, bytes)
          }
          try {
            const volume = await openFileSystem(device)
            if (!volume) return
            await volume.list('/EFI')
            await volume.readFile('/EFI/Harbour Systems/Boot/loader.efi')
          } catch (error) {
            expect(error).toBeInstanceOf(CoreError)
          }
        },
      ),
      { numRuns: 100 },
    )
  })
})
