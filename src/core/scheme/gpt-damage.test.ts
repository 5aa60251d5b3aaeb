import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '../block/memory'
import { SliceDevice } from '../block/slice'
import { crc32 } from '../bytes/crc32'
import { type BlockDevice, UnreadableSectors } from '../block/device'
import { readGpt, writeGpt } from './gpt'
import { GPT_ENTRY, GPT_HEADER } from './gpt-layout'
import { type GptPartition, type GptTable, TYPE_GUIDS } from './types'

const SIZE = 64 * 1024 * 1024
const LAST = SIZE / 512 - 1

function partition(number: number, firstLba: number, lastLba: number): GptPartition {
  const guid = `00000000-0000-4000-8000-00000000000${number}`
  return { number, typeGuid: TYPE_GUIDS.basicData, guid, firstLba, lastLba, attributes: '0000000000000000', name: '' }
}

const TABLE: GptTable = {
  diskGuid: '91f0a6d8-73c4-4e19-b250-d8a94e1733c7',
  entryCount: 128,
  entrySize: 128,
  partitions: [partition(1, 2048, 4095), partition(2, 4096, 8191)],
}

async function drive(): Promise<MemoryDevice> {
  const device = new MemoryDevice(SIZE)
  await writeGpt(device, TABLE)
  return device
}

/** Changes fields of the first header and gives it a checksum that holds, as a faulty program would. */
async function forgeHeader(
  device: MemoryDevice,
  values: Parameters<typeof GPT_HEADER.write>[1],
  lba = 1,
): Promise<void> {
  const sector = new Uint8Array(512)
  await device.read(lba * 512, sector)
  GPT_HEADER.write(sector, { ...values, headerCrc: 0 })
  const { headerSize } = GPT_HEADER.read(sector)
  const crc = headerSize <= 512 ? crc32(sector.subarray(0, headerSize)) : 0
  GPT_HEADER.write(sector, { headerCrc: crc })
  await device.write(lba * 512, sector)
}

/** Changes an entry of the first copy and mends all checksums. */
async function forgeEntry(
  device: MemoryDevice,
  index: number,
  values: Parameters<typeof GPT_ENTRY.write>[1],
): Promise<void> {
  const entries = new Uint8Array(32 * 512)
  await device.read(1024, entries)
  GPT_ENTRY.write(entries, values, index * 128)
  await device.write(1024, entries)
  await forgeHeader(device, { entriesCrc: crc32(entries) })
}

describe('a first header whose checksum holds but whose values cannot be', () => {
  it.each<[string, Parameters<typeof GPT_HEADER.write>[1], RegExp]>([
    ['another place than its own', { myLba: 7 }, /lies at sector 7/],
    ['no entries', { entryCount: 0 }, /0 entries/],
    ['entries without end', { entryCount: 0xffffffff }, /entries of 128 bytes/],
    ['entries of an odd size', { entrySize: 100 }, /entries of 100 bytes/],
    ['entries of a size that is no power of two', { entrySize: 192 }, /entries of 192 bytes/],
    ['entries outside of the drive', { entriesLba: LAST }, /which is outside/],
    ['entries over its own header', { entriesLba: 1 }, /which is outside/],
    ['a usable range that ends before it begins', { firstUsableLba: 900, lastUsableLba: 800 }, /usable range/],
    ['a usable range beyond the drive', { lastUsableLba: LAST + 100 }, /usable range/],
    ['another signature', { signature: 'EFI PARK' }, /signature/],
  ])('with %s is not believed, and the backup is', async (_what, values, why) => {
    const device = await drive()
    await forgeHeader(device, values)
    const reading = await readGpt(device)
    expect(reading?.from).toBe('backup')
    expect(reading?.table.partitions).toEqual(TABLE.partitions)
    expect(reading?.primary.fault).toMatch(why)
    expect(reading?.findings.map((f) => [f.code, f.severity])).toEqual([['gpt.primary-bad', 'damage']])
  })

  it('with a length of its own that is too long is not believed', async () => {
    const device = await drive()
    await forgeHeader(device, { headerSize: 4000 })
    expect((await readGpt(device))?.primary.fault).toMatch(/length as 4000/)
  })
})

describe('partitions that cannot be', () => {
  it.each<[string, Parameters<typeof GPT_ENTRY.write>[1], string[]]>([
    ['overlap', { firstLba: 4000 }, ['gpt.copies-differ', 'gpt.overlap']],
    ['lie in front of the usable range', { firstLba: 3, lastLba: 20 }, ['gpt.copies-differ', 'gpt.out-of-range']],
    ['lie behind it', { lastLba: LAST }, ['gpt.copies-differ', 'gpt.out-of-range']],
    ['end before they begin', { firstLba: 9000, lastLba: 8500 }, ['gpt.copies-differ', 'gpt.out-of-range']],
  ])('are named when they %s', async (_what, values, codes) => {
    const device = await drive()
    await forgeEntry(device, 1, values)
    const reading = await readGpt(device)
    expect(reading?.findings.map((f) => f.code)).toEqual(codes)
    expect(reading?.findings.every((f) => (f.evidence ?? '').length > 0)).toBe(true)
  })
})

describe('two copies of one drive', () => {
  it('with different identities are told apart', async () => {
    const device = await drive()
    await forgeHeader(device, { diskGuid: '11111111-2222-4333-8444-555555555555' })
    expect((await readGpt(device))?.findings.map((f) => f.code)).toEqual(['gpt.identities-differ'])
  })

  it('of which one cannot be read leave the other', async () => {
    const device = await drive()
    const failing = (bad: number): BlockDevice => ({
      size: SIZE,
      logicalSectorSize: 512,
      physicalSectorSize: 512,
      read: async (offset, into) => {
        if (offset <= bad * 512 && bad * 512 < offset + into.length) throw new UnreadableSectors([bad])
        await device.read(offset, into)
      },
      write: async () => {},
      flush: async () => {},
    })
    for (const [sector, from] of [
      [1, 'backup'],
      [10, 'backup'],
      [LAST, 'primary'],
    ] as const) {
      const reading = await readGpt(failing(sector))
      expect([reading?.from, reading?.table.partitions.length]).toEqual([from, 2])
      expect(reading?.findings[0].sentence).toMatch(/could not read sector/)
    }
  })
})

describe('a drive that was cut short', () => {
  it('still tells its partitions, and which of them lack their end', async () => {
    const whole = await drive()
    const reading = await readGpt(new SliceDevice(whole, 0, 6000 * 512))
    expect(reading?.table.partitions).toEqual(TABLE.partitions)
    expect(reading?.findings.map((f) => f.code)).toEqual([
      'gpt.backup-misplaced',
      'gpt.backup-bad',
      'gpt.drive-smaller',
    ])
    expect(reading?.findings.at(-1)?.sentence).toMatch(/of partition 2 the end is missing/)
  })
})
