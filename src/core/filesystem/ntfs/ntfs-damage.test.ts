import fc from 'fast-check'
import { beforeAll, describe, expect, it } from 'vitest'
import { readBytes } from '../../block/device'
import { MemoryDevice } from '../../block/memory'
import { OverlayDevice } from '../../block/overlay'
import { viewOf } from '../../bytes/struct'
import { BadStructure, CoreError } from '../../errors'
import { openFileSystem } from '..'
import { pattern, runsOf } from '../../testing'
import { applyFixups, removeFixups } from './fixups'
import { formatNtfs } from './format'
import { ATTRIBUTE_TYPES, BOOT_SECTOR, RECORDS } from './layout'
import { NtfsVolume } from './volume'

let original: MemoryDevice
let mftOffset: number

beforeAll(async () => {
  original = new MemoryDevice(24 * 1024 * 1024)
  const many = Array.from({ length: 60 }, (_, i) => ({
    path: `/Cards/a card with number ${i}.json`,
    content: pattern(40, i),
  }))
  await formatNtfs(original, {
    label: 'Harbour',
    serial: 1n,
    startSector: 0,
    time: 1n,
    files: [
      ...many,
      { path: '/System/a.dat', content: pattern(9000, 2) },
      { path: '/Scattered.bin', unwrittenBytes: 300 * 4096, fragments: 300 },
    ],
  })
  mftOffset = BOOT_SECTOR.read(await readBytes(original, 0, 512)).mftLcn * 4096
})

/** A copy of the volume in which one record was changed and then written as the system writes it, fix-ups in order. */
async function withRecord(
  number: number,
  change: (record: Uint8Array, view: DataView) => void,
): Promise<OverlayDevice> {
  const device = new OverlayDevice(original)
  const record = new Uint8Array(1024)
  await device.read(mftOffset + number * 1024, record)
  removeFixups(record, 0, 'record')
  change(record, viewOf(record))
  viewOf(record).setUint16(4, 48, true)
  viewOf(record).setUint16(6, 3, true)
  applyFixups(record)
  await device.write(mftOffset + number * 1024, record)
  return device
}

async function useAll(device: OverlayDevice): Promise<void> {
  const volume = await openFileSystem(device)
  if (!volume) return
  for (const folder of ['/', '/Cards', '/System']) await volume.list(folder)
  await volume.readFile('/System/a.dat')
  await volume.readFile('/Scattered.bin', 0, 4096)
  let last = 0
  for await (const { offset, length } of volume.usedExtents()) {
    expect(offset).toBeGreaterThanOrEqual(last)
    last = offset + length
  }
  expect(last).toBeLessThanOrEqual(device.size)
}

/** Finds where an attribute starts in a record with its fix-ups removed. */
function attributeAt(view: DataView, type: number): number {
  for (let at = view.getUint16(20, true); ; at += view.getUint32(at + 4, true)) {
    if (view.getUint32(at, true) === type) return at
    if (view.getUint32(at, true) === ATTRIBUTE_TYPES.end) throw new Error('no such attribute')
  }
}

describe('a record with wrong values and right fix-ups', () => {
  it('ends in an error of our own or in something that can be read, whatever was changed', async () => {
    const systemRecords = [RECORDS.mft, RECORDS.volume, RECORDS.root, RECORDS.bitmap]
    await fc.assert(
      fc.asyncProperty(
        fc.oneof(fc.constantFrom(...systemRecords), fc.integer({ min: 24, max: 96 })),
        fc.array(fc.tuple(fc.integer({ min: 8, max: 700 }), fc.nat({ max: 255 })), { minLength: 1, maxLength: 6 }),
        async (number, changes) => {
          const device = await withRecord(number, (record) => changes.forEach(([at, value]) => (record[at] = value)))
          try {
            await useAll(device)
          } catch (error) {
            expect(error).toBeInstanceOf(CoreError)
          }
        },
      ),
      { numRuns: runsOf(80, 3000) },
    )
  })

  it.each<[string, number, (view: DataView) => void, RegExp]>([
    ['attributes that begin outside', RECORDS.root, (v) => v.setUint16(20, 2000, true), /lengths contradict/],
    ['more bytes in use than it has', RECORDS.root, (v) => v.setUint32(24, 5000, true), /lengths contradict/],
    [
      'an attribute without length',
      RECORDS.root,
      (v) => v.setUint32(attributeAt(v, 0x30) + 4, 0, true),
      /longer than it/,
    ],
    [
      'an attribute longer than the record',
      RECORDS.root,
      (v) => v.setUint32(attributeAt(v, 0x90) + 4, 4096, true),
      /longer than it/,
    ],
    [
      'a value outside of its attribute',
      RECORDS.root,
      (v) => v.setUint32(attributeAt(v, 0x90) + 16, 4000, true),
      /value of an attribute/,
    ],
    [
      'a name outside of its attribute',
      RECORDS.root,
      (v) => v.setUint8(attributeAt(v, 0x90) + 9, 250),
      /name of an attribute/,
    ],
  ])('is refused with %s', async (_what, number, change, why) => {
    const device = await withRecord(number, (_record, view) => change(view))
    await expect(useAll(device)).rejects.toThrow(why)
  })

  it('is refused when its runs leave the volume', async () => {
    const device = await withRecord(RECORDS.bitmap, (record, view) => {
      const at = attributeAt(view, ATTRIBUTE_TYPES.data)
      const runs = at + view.getUint16(at + 32, true)
      // One byte of length, four bytes of a cluster far beyond the end.
      record.set([0x41, record[runs + 1], 0xff, 0xff, 0xff, 0x7f, 0], runs)
    })
    await expect(useAll(device)).rejects.toThrow(/run list|lies outside|covers/)
  })

  it('is refused when it is not in use', async () => {
    const device = await withRecord(RECORDS.bitmap, (_record, view) => view.setUint16(22, 0, true))
    await expect(useAll(device)).rejects.toThrow(/not in use/)
  })

  it('is refused when a list of attributes leads nowhere', async () => {
    const volume = await NtfsVolume.open(original)
    let number = 24
    for (; number < volume.recordCount; number++) {
      const record = await volume.record(number).catch(() => undefined)
      if (record?.attributes.some((a) => a.type === ATTRIBUTE_TYPES.attributeList)) break
    }
    const device = await withRecord(number, (_record, view) => {
      const at = attributeAt(view, ATTRIBUTE_TYPES.attributeList)
      const value = at + view.getUint16(at + 20, true)
      // The third entry names the record of the first data extent.
      view.setBigUint64(value + 2 * 32 + 16, 0xfffffn, true)
    })
    const opened = await openFileSystem(device)
    await expect(opened!.readFile('/Scattered.bin', 0, 10)).rejects.toBeInstanceOf(BadStructure)
    expect((await opened!.list('/')).length).toBeGreaterThan(2)
  })
})

describe('a boot sector that cannot be', () => {
  it.each<[string, (view: DataView) => void]>([
    ['sectors of 100 bytes', (v) => v.setUint16(11, 100, true)],
    ['clusters of three sectors', (v) => v.setUint8(13, 3)],
    ['clusters of 4 MiB', (v) => v.setUint8(13, 256 - 13)],
    ['no sectors at all', (v) => v.setBigUint64(40, 0n, true)],
    ['more sectors than its partition', (v) => v.setBigUint64(40, 10_000_000n, true)],
    ['sizes beyond any drive', (v) => v.setBigUint64(40, 2n ** 60n, true)],
    ['a file table outside', (v) => v.setBigUint64(48, 900_000n, true)],
    ['records of 3 clusters', (v) => v.setInt8(64, 3)],
    ['records of 2^40 bytes', (v) => v.setInt8(64, -40)],
    ['index blocks of 2^20 bytes', (v) => v.setInt8(68, -20)],
    ['sectors of 4096 bytes on a drive with 512', (v) => v.setUint16(11, 4096, true)],
  ])('is refused with %s', async (_what, change) => {
    const device = new OverlayDevice(original)
    const boot = new Uint8Array(512)
    await device.read(0, boot)
    change(viewOf(boot))
    await device.write(0, boot)
    await expect(openFileSystem(device)).rejects.toBeInstanceOf(BadStructure)
  })
})

describe('a directory', () => {
  it('whose index leads back to itself is refused, not followed for ever', async () => {
    const volume = await NtfsVolume.open(original)
    let cards = 24
    for (; cards < 40; cards++) {
      const record = await volume.record(cards)
      const allocation = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.indexAllocation)
      if (allocation) break
    }
    const record = await volume.record(cards)
    const allocation = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.indexAllocation)!
    const at = allocation.placed!.runs[0].lcn! * 4096
    const device = new OverlayDevice(original)
    const block = new Uint8Array(4096)
    await device.read(at, block)
    removeFixups(block, 0, 'block')
    const view = viewOf(block)
    // The first entry of the first block gets a child: the block itself.
    const first = 24 + view.getUint32(24, true)
    const length = view.getUint16(first + 8, true)
    view.setUint16(first + 12, 1, true)
    view.setBigUint64(first + length - 8, 0n, true)
    applyFixups(block)
    await device.write(at, block)
    const opened = await openFileSystem(device)
    await expect(opened!.list('/Cards')).rejects.toThrow(/leads back to itself/)
    expect((await opened!.list('/')).map((e) => e.name)).toContain('Cards')
  })
})

describe('a file table whose first record is damaged', () => {
  it('is read through its copy, which is told, and not without one', async () => {
    const device = new OverlayDevice(original)
    await device.write(mftOffset, new Uint8Array(512))
    const volume = (await openFileSystem(device))!
    expect([volume.state, volume.findings.map((f) => f.code)]).toEqual(['dirty', ['ntfs.mft-mirror-used']])
    expect(await volume.readFile('/System/a.dat')).toEqual(pattern(9000, 2))
    const mirror = BOOT_SECTOR.read(await readBytes(original, 0, 512)).mftMirrorLcn * 4096
    await device.write(mirror, new Uint8Array(512))
    await expect(openFileSystem(device)).rejects.toBeInstanceOf(BadStructure)
  })
})
