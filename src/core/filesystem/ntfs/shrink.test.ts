import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { type BlockDevice, readBytes } from '../../block/device'
import { MemoryDevice } from '../../block/memory'
import { MIB } from '../../bytes/size'
import { pattern, runsOf, sameBytes } from '../../testing'
import type { NewFile } from '../new-files'
import { openFileSystem } from '..'
import { ntfs } from '.'
import { formatNtfs } from './format'
import { RECORDS } from './layout'
import { content, expectConsistent, expectFiles, type Written } from './testing'
import { NtfsVolume } from './volume'

async function volumeWith(files: readonly NewFile[], size: number): Promise<MemoryDevice> {
  const device = new MemoryDevice(size)
  await formatNtfs(device, { label: 'Shows', serial: 9n, startSector: 2048, time: 1n, files })
  return device
}

const FILES: readonly Written[] = [
  { path: '/notes.txt', content: content(300, 1) },
  { path: '/Cues/opening.dat', content: content(3 * MIB, 2), fragments: 20 },
  { path: '/Cues/Act two/scattered.dat', content: content(2 * MIB, 3), fragments: 400, gap: 300 },
  { path: '/Cues/Act two/late.dat', content: content(2 * MIB, 4), gap: 6000 },
  ...Array.from({ length: 300 }, (_, i) => ({
    path: `/Cards/card number ${i}.json`,
    content: content(2000 + i, 100 + i),
  })),
  { path: '/last.dat', content: content(MIB, 5), fragments: 100, gap: 900 },
]

describe('making NTFS smaller', () => {
  it.each([63, 48, 30, 20, 14])('to %i MiB keeps every file', async (mib) => {
    const source = await volumeWith(FILES, 64 * MIB)
    const before = await readBytes(source, 0, source.size)
    const device = await ntfs.resize!(source, mib * MIB)
    expect(device.size).toBe(mib * MIB)
    await expectFiles(device, FILES)
    await expectConsistent(device)
    expect(sameBytes(await readBytes(source, 0, source.size), before)).toBe(true)
  })

  it('goes down to what the survey calls the least', async () => {
    const source = await volumeWith(FILES, 64 * MIB)
    const volume = await openFileSystem(source)
    let used = 0
    for await (const { length } of volume!.usedExtents()) used += length
    const least = Math.ceil(volume!.shrunk!(used).bytes / 512) * 512
    expect(least).toBeLessThan(16 * MIB)
    const device = await ntfs.resize!(source, least)
    await expectFiles(device, FILES)
    await expectConsistent(device)
  })

  it('says how much is missing when it does not go in', async () => {
    const source = await volumeWith(FILES, 64 * MIB)
    await expect(ntfs.resize!(source, 9 * MIB)).rejects.toThrow(/does not go into 9 MiB: [\d.]+ \wiB are missing/)
  })

  it('puts run lists that grow into records of their own', async () => {
    // One whole run where only single clusters are free: the list becomes longer than its record.
    const holes: Written[] = Array.from({ length: 900 }, (_, i) => ({
      path: `/Holes/${i}.dat`,
      content: content(4096, 1000 + i),
      gap: 1,
    }))
    const whole: Written = { path: '/whole.dat', content: content(800 * 4096, 7), gap: 2500 }
    const files = [...holes, whole]
    const source = await volumeWith(files, 40 * MIB)
    const device = await smallest(source)
    await expectFiles(device, files)
    await expectConsistent(device)
    const opened = await NtfsVolume.open(device)
    let lists = 0
    for await (const record of opened.usedRecords()) if (record.attributes.some((a) => a.type === 0x20)) lists++
    expect(lists).toBeGreaterThan(0)
  })

  it.each([
    ['was not closed', true, /not closed cleanly/],
    ['has changes in its log', false, /log of the volume holds changes/],
  ])('refuses a volume that %s', async (_what, dirty, sentence) => {
    const source = new MemoryDevice(32 * MIB)
    await formatNtfs(source, { label: '', serial: 1n, startSector: 0, time: 1n, files: [], dirty })
    if (!dirty) await openTheLog(source)
    await expect(ntfs.resize!(source, 24 * MIB)).rejects.toThrow(sentence)
    await expect(ntfs.resize!(source, 48 * MIB)).rejects.toThrow(sentence)
  })

  it('keeps every file of any volume at any size that it goes into', async () => {
    const file = fc.record({
      kib: fc.integer({ min: 0, max: 600 }),
      fragments: fc.integer({ min: 1, max: 60 }),
      gap: fc.nat(400),
    })
    await fc.assert(
      fc.asyncProperty(
        fc.array(file, { maxLength: 12 }),
        fc.integer({ min: 9 * 2048, max: 40 * 2048 }),
        async (made, sectors) => {
          const files = made.map(({ kib, ...rest }, i) => ({
            path: `/d${i % 3}/${i}.dat`,
            content: content(kib * 1024 + i, i),
            ...rest,
          }))
          const source = await volumeWith(files, 40 * MIB)
          const device = await ntfs.resize!(source, sectors * 512).catch((error: Error) => {
            expect(error.message).toMatch(/are missing/)
            return undefined
          })
          if (!device) return
          await expectFiles(device, files)
          await expectConsistent(device)
        },
      ),
      { numRuns: runsOf(14, 400) },
    )
  })
})

/** The volume at the least size that it can be brought to, found by trying. */
async function smallest(source: BlockDevice): Promise<BlockDevice> {
  const volume = await openFileSystem(source)
  let used = 0
  for await (const { length } of volume!.usedExtents()) used += length
  for (let size = Math.floor(used / 4096) * 4096; ; size += 4 * 4096) {
    try {
      return await ntfs.resize!(source, size)
    } catch (error) {
      expect(String(error)).toMatch(/are missing/)
    }
  }
}

/** Puts a restart page into the log that names a client in use. */
async function openTheLog(device: MemoryDevice): Promise<void> {
  const volume = await NtfsVolume.open(device)
  const [{ lcn }] = (await volume.stream(await volume.record(RECORDS.logFile), 0x80))!.runs
  const page = pattern(512, 0).fill(0)
  page.set(new TextEncoder().encode('RSTR'))
  const view = new DataView(page.buffer)
  view.setUint16(24, 48, true)
  view.setUint16(48 + 12, 0, true)
  await device.write(lcn! * 4096, page)
}
