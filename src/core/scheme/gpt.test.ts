import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { readBytes } from '../block/device'
import { MemoryDevice } from '../block/memory'
import { OverlayDevice } from '../block/overlay'
import { CoreError } from '../errors'
import { gptWrites, readGpt, usableRange, writeGpt } from './gpt'
import { type GptPartition, type GptTable, TYPE_GUIDS } from './types'

const MIB = 1024 * 1024
const DISK = '7c1e0a55-3b1c-4f6e-9d2a-5b8f3c0da204'

function partition(number: number, firstLba: number, sectors: number): GptPartition {
  return {
    number,
    typeGuid: TYPE_GUIDS.basicData,
    guid: `00000000-0000-4000-8000-00000000000${number}`,
    firstLba,
    lastLba: firstLba + sectors - 1,
    attributes: '8000000000000001',
    name: `Volume ${number}`,
  }
}

const TABLE: GptTable = {
  diskGuid: DISK,
  entryCount: 128,
  entrySize: 128,
  partitions: [partition(1, 2048, 2048), partition(3, 4096, 1000)],
}

async function drive(table = TABLE, size = 64 * MIB, sector: 512 | 4096 = 512) {
  const device = new MemoryDevice(size, sector)
  await writeGpt(device, table)
  return device
}

async function flip(device: MemoryDevice, at: number) {
  const sector = Math.floor(at / device.logicalSectorSize) * device.logicalSectorSize
  const bytes = new Uint8Array(device.logicalSectorSize)
  await device.read(sector, bytes)
  bytes[at - sector] ^= 0x5a
  await device.write(sector, bytes)
}

describe('a GPT', () => {
  it('reads back as it was written, with 512- and 4096-byte sectors', async () => {
    for (const sector of [512, 4096] as const) {
      const reading = await readGpt(await drive(TABLE, 64 * MIB, sector))
      expect(reading?.table).toEqual(TABLE)
      expect(reading?.findings).toEqual([])
      expect(reading?.protectiveMbr).toBe(true)
      expect(reading?.primary.entriesCrc).toBe(reading?.backup.entriesCrc)
    }
  })

  it('leaves 34 sectors in front and 33 behind, or 6 and 5', () => {
    expect(usableRange(1000 * 512, 512)).toEqual({ firstLba: 34, lastLba: 1000 - 34 })
    expect(usableRange(1000 * 4096, 4096)).toEqual({ firstLba: 6, lastLba: 1000 - 6 })
  })

  it('is absent from an empty drive', async () => {
    expect(await readGpt(new MemoryDevice(64 * MIB))).toBeUndefined()
  })

  it.each([
    ['the first header', 512 + 60, 'backup', 'gpt.primary-bad'],
    ['the first entries', 1024 + 130, 'backup', 'gpt.primary-bad'],
    ['the backup header', 64 * MIB - 512 + 60, 'primary', 'gpt.backup-bad'],
    ['the backup entries', 64 * MIB - 33 * 512 + 5, 'primary', 'gpt.backup-bad'],
  ] as const)('damaged in %s is read from the other copy and says so', async (_what, at, from, code) => {
    const device = await drive()
    await flip(device, at)
    const reading = await readGpt(device)
    expect(reading?.from).toBe(from)
    expect(reading?.table).toEqual(TABLE)
    expect(reading?.findings.map((f) => f.code)).toEqual([code])
  })

  it('with both copies damaged, entries too, is refused by name', async () => {
    const device = await drive()
    for (const at of [512 + 60, 64 * MIB - 512 + 60, 2 * 512, 64 * MIB - 33 * 512]) await flip(device, at)
    await expect(readGpt(device)).rejects.toThrow(/fails its checksum/)
  })

  it.each([
    ['the first entries', 64 * MIB - 33 * 512],
    ['the entries at the end', 2 * 512],
  ])('with both headers damaged is read from %s, which pass their checksum', async (_which, other) => {
    const device = await drive()
    for (const at of [512 + 60, 64 * MIB - 512 + 60, other]) await flip(device, at)
    const reading = await readGpt(device)
    expect(reading?.table.partitions).toEqual(TABLE.partitions)
    expect(reading?.findings.filter((f) => f.severity === 'damage').map((f) => f.code)).toEqual(['gpt.header-damaged'])
  })

  it('whose first copy is damaged is read from the backup that its header still names, wherever that is', async () => {
    const device = new OverlayDevice(await drive(), 128 * MIB)
    const sector = new Uint8Array(512)
    await device.read(512, sector)
    sector[60] ^= 1
    await device.write(512, sector)
    await device.write(2 * 512, new Uint8Array(512))
    const reading = await readGpt(device)
    expect(reading?.table.partitions).toEqual(TABLE.partitions)
    expect(reading?.backup.lba).toBe((64 * MIB) / 512 - 1)
    expect(reading?.findings.map((f) => f.code)).toEqual(
      expect.arrayContaining(['gpt.backup-misplaced', 'gpt.primary-bad']),
    )
  })

  it('from a smaller drive is found to have its backup in the wrong place', async () => {
    const device = new OverlayDevice(await drive(), 128 * MIB)
    const reading = await readGpt(device)
    expect(reading?.table).toEqual(TABLE)
    expect(reading?.findings.map((f) => f.code)).toEqual(['gpt.backup-misplaced'])
  })

  it('whose copies disagree says so', async () => {
    const device = await drive()
    const other = gptWrites(device.size, 512, { ...TABLE, partitions: TABLE.partitions.slice(1) })
    for (const { offset, bytes } of other.slice(0, 2)) await device.write(offset, bytes)
    const reading = await readGpt(device)
    expect(reading?.findings.map((f) => f.code)).toEqual(['gpt.copies-differ'])
  })

  it('without its protective MBR says so', async () => {
    const device = await drive()
    await device.write(0, new Uint8Array(512))
    expect((await readGpt(device))?.findings.map((f) => f.code)).toEqual(['gpt.no-protective-mbr'])
  })

  it.each([
    ['overlap', [partition(1, 2048, 100), partition(2, 2100, 100)]],
    ['lie outside', [partition(1, 20, 100)]],
    ['share a number', [partition(1, 2048, 100), partition(1, 4096, 100)]],
  ])('is not written when partitions %s', (_what, partitions) => {
    expect(() => gptWrites(64 * MIB, 512, { ...TABLE, partitions })).toThrow(CoreError)
  })

  it('carries the partitions that a hybrid MBR names, and start-up code', async () => {
    const device = new MemoryDevice(64 * MIB)
    const hybrid = [{ number: 3, type: 7, active: true }]
    const bootCode = new Uint8Array(440).fill(0x90)
    await writeGpt(device, { ...TABLE, hybrid, bootCode })
    const reading = (await readGpt(device))!
    expect(reading.table).toEqual(TABLE)
    expect(reading.hybrid).toEqual(hybrid)
    expect([reading.protectiveMbr, reading.hybridMbr]).toEqual([true, true])
    const sector = await readBytes(device, 0, 512)
    expect([...sector.subarray(0, 440)]).toEqual([...bootCode])
    // The record that protects the GPT ends in front of the first one that is named.
    expect(new DataView(sector.buffer, sector.byteOffset).getUint32(446 + 12, true)).toBe(4095)
  })

  it('with random damage gives the table, nothing, or an error of its own', async () => {
    const original = await drive()
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.tuple(fc.nat({ max: 68 * 512 - 1 }), fc.nat({ max: 255 })), { minLength: 1, maxLength: 20 }),
        async (changes) => {
          const device = new OverlayDevice(original)
          for (const [place, value] of changes) {
            const at = place < 34 * 512 ? place : 64 * MIB - 68 * 512 + place
            const bytes = new Uint8Array(512)
            const sector = Math.floor(at / 512) * 512
            await device.read(sector, bytes)
            bytes[at - sector] = value
            await device.write(sector, bytes)
          }
          try {
            const reading = await readGpt(device)
            if (!reading) return
            // Where neither header holds, only the entries were held against a checksum.
            const entriesAlone = reading.findings.some((f) => f.code === 'gpt.header-damaged')
            if (entriesAlone) expect(reading.table.partitions).toEqual(TABLE.partitions)
            else expect(reading.table).toEqual(TABLE)
          } catch (error) {
            expect(error).toBeInstanceOf(CoreError)
          }
        },
      ),
      { numRuns: 200 },
    )
  })
})
