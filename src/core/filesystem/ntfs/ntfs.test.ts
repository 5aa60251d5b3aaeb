import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { type BlockDevice, readBytes } from '../../block/device'
import { MemoryDevice } from '../../block/memory'
import { OverlayDevice } from '../../block/overlay'
import { BadStructure, CoreError } from '../../errors'
import { NoSuchFile } from '../errors'
import { openFileSystem } from '..'
import type { NewFile } from '../new-files'
import { ntfs } from '.'
import { BOOT_SECTOR } from './layout'
import { formatNtfs } from './format'
import { decodeRuns, encodeRuns } from './runs'
import { pattern, runsOf, sameBytes, utf8 } from '../../testing'

const MIB = 1024 * 1024

async function volumeWith(files: NewFile[], size = 64 * MIB, dirty = false) {
  const device = new MemoryDevice(size)
  await formatNtfs(device, { label: 'Harbour', serial: 0x1234n, startSector: 2048, time: 1n, files, dirty })
  return device
}

async function open(device: BlockDevice) {
  const volume = await openFileSystem(device)
  expect(volume?.kind).toBe('ntfs')
  return volume!
}

async function usedBytes(volume: Awaited<ReturnType<typeof open>>) {
  let sum = 0
  for await (const { length } of volume.usedExtents()) sum += length
  return sum
}

describe('an NTFS volume', () => {
  it('gives back label, state and every file as it was made', async () => {
    const files: NewFile[] = [
      { path: '/notes.txt', content: utf8('tide tables') },
      { path: '/System/Long name with spaces.dat', content: pattern(100_000, 1) },
      { path: '/System/Deep/er/empty', content: new Uint8Array() },
    ]
    const volume = await open(await volumeWith(files))
    expect(volume.label).toBe('Harbour')
    expect(volume.state).toBe('clean')
    expect(volume.findings).toEqual([])
    for (const file of files) {
      const content = await volume.readFile(file.path)
      expect('content' in file && sameBytes(content, file.content)).toBe(true)
    }
    expect((await volume.list('/')).map((e) => e.name)).toEqual(['notes.txt', 'System'])
    await expect(volume.readFile('/System/none')).rejects.toBeInstanceOf(NoSuchFile)
  })

  it('finds names in a directory that needs several levels of its index', async () => {
    const files = Array.from({ length: 1500 }, (_, i) => ({
      path: `/Cards/visitor card number ${String(i).padStart(5, '0')}.json`,
      content: utf8(`card ${i}`),
    }))
    const volume = await open(await volumeWith(files))
    const names = (await volume.list('/Cards')).map((e) => e.name)
    expect(names).toHaveLength(1500)
    expect(names).toEqual([...names].sort())
    expect(new TextDecoder().decode(await volume.readFile('/cards/VISITOR card number 00777.json'))).toBe('card 777')
  })

  it('reads a file whose run list needs records of its own', async () => {
    const bytes = 400 * 4096
    const device = await volumeWith([{ path: '/Scattered.bin', unwrittenBytes: bytes, fragments: 400 }])
    const volume = await open(device)
    expect((await volume.stat('/Scattered.bin'))?.sizeBytes).toBe(bytes)
    expect((await volume.readFile('/Scattered.bin')).every((byte) => byte === 0)).toBe(true)
  })

  it('reports a volume that was not closed', async () => {
    const volume = await open(await volumeWith([], 64 * MIB, true))
    expect(volume.state).toBe('dirty')
    expect(volume.findings.map((f) => f.code)).toContain('ntfs.dirty')
  })

  it('counts the clusters a file takes as used', async () => {
    const without = await usedBytes(await open(await volumeWith([])))
    const withFile = await usedBytes(await open(await volumeWith([{ path: '/a', unwrittenBytes: 5 * MIB }])))
    expect(withFile - without).toBe(5 * MIB)
  })

  it('never does worse than an error of its own on damaged bytes', async () => {
    const original = await volumeWith([{ path: '/System/a.dat', content: pattern(9000, 2) }], 16 * MIB)
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.tuple(fc.nat({ max: 16 * MIB - 1 }), fc.nat({ max: 255 })), { minLength: 1, maxLength: 40 }),
        fc.boolean(),
        async (changes, aimed) => {
          const device = new OverlayDevice(original)
          for (const [place, value] of changes) {
            // Half of the runs aim at boot sector and file table, where the structures are.
            const at = aimed ? (place % 2 === 0 ? place % 512 : 5 * MIB + (place % 65536)) : place
            const sector = Math.floor(at / 512) * 512
            const bytes = new Uint8Array(512)
            await device.read(sector, bytes)
            bytes[at - sector] = value
            await device.write(sector, bytes)
          }
          try {
            const volume = await openFileSystem(device)
            if (!volume) return
            await volume.list('/')
            await volume.readFile('/System/a.dat')
            for await (const extent of volume.usedExtents())
              expect(extent.offset + extent.length).toBeLessThanOrEqual(device.size)
          } catch (error) {
            expect(error).toBeInstanceOf(CoreError)
          }
        },
      ),
      { numRuns: runsOf(60, 2000) },
    )
  })

  it('refuses a record that was written only in part', async () => {
    const device = await volumeWith([])
    const { mftLcn } = BOOT_SECTOR.read(await readBytes(device, 0, 512))
    const at = mftLcn * 4096 + 5 * 1024 + 510
    const sector = new Uint8Array(512)
    await device.read(at - 510, sector)
    sector[510] ^= 0xff
    await device.write(at - 510, sector)
    const volume = await openFileSystem(device)
    await expect(volume!.list('/')).rejects.toBeInstanceOf(BadStructure)
  })
})

describe('growing NTFS', () => {
  it.each([
    ['within the clusters its bitmap has', 64 * MIB, 96 * MIB],
    ['with more clusters for its bitmap', 64 * MIB, 3000 * MIB],
    ['by one sector less than a cluster', 64 * MIB, 64 * MIB + 7 * 512],
  ])('%s', async (_name, before, after) => {
    const content = pattern(300_000, 3)
    const base = await volumeWith([{ path: '/Kept.dat', content }], before)
    const used = await usedBytes(await open(base))
    const device = await ntfs.resize!(base, after)
    const volume = await open(device)
    expect(volume.totalBytes).toBe(after - 512)
    expect(volume.findings).toEqual([])
    expect(sameBytes(await volume.readFile('/Kept.dat'), content)).toBe(true)
    const bitmapGrowth = Math.max(0, Math.ceil(after / 4096 / 8 / 4096) - Math.ceil(before / 4096 / 8 / 4096)) * 4096
    const tail = (size: number) => size - Math.floor((size / 512 - 1) / 8) * 4096
    expect((await usedBytes(volume)) - used).toBe(bitmapGrowth + tail(after) - tail(before))
    // The source below was not touched.
    expect((await open(base)).totalBytes).toBe(before - 512)
  })

  it('keeps every cluster of the old volume used that was used', async () => {
    await fc.assert(
      fc.asyncProperty(fc.integer({ min: 8, max: 40 }), fc.integer({ min: 1, max: 4000 }), async (mib, more) => {
        const base = await volumeWith([{ path: '/x', unwrittenBytes: MIB, fragments: 20 }], mib * MIB)
        const device = await ntfs.resize!(base, mib * MIB + more * 64 * 1024)
        const volume = await open(device)
        const last = await readBytes(device, device.size - 512, 512)
        expect(last).toEqual(await readBytes(device, 0, 512))
        expect((await volume.stat('/x'))?.sizeBytes).toBe(MIB)
      }),
      { numRuns: runsOf(10, 200) },
    )
  })

  it('refuses a volume that was not closed cleanly', async () => {
    const base = await volumeWith([], 64 * MIB, true)
    await expect(ntfs.resize!(base, 128 * MIB)).rejects.toThrow(/not closed cleanly/)
  })
})

describe('run lists', () => {
  it('decode to what was encoded', () => {
    const run = fc.record({
      lcn: fc.option(fc.nat({ max: 2 ** 40 }), { nil: null }),
      length: fc.integer({ min: 1, max: 2 ** 32 }),
    })
    fc.assert(
      fc.property(fc.array(run, { maxLength: 50 }), (runs) => {
        const total = runs.reduce((sum, { length }) => sum + length, 0)
        expect(decodeRuns(encodeRuns(runs), 2 ** 42, total)).toEqual(runs)
      }),
    )
  })

  it('end in an error on any other bytes', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 64 }), (bytes) => {
        try {
          const runs = decodeRuns(bytes, 1000, 500)
          expect(runs.reduce((sum, { length }) => sum + length, 0)).toBe(500)
        } catch (error) {
          expect(error).toBeInstanceOf(BadStructure)
        }
      }),
    )
  })
})
