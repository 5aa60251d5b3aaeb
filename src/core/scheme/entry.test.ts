import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { readBytes } from '../block/device'
import { MemoryDevice } from '../block/memory'
import { sameBytes } from '../bytes/same'
import { viewOf } from '../bytes/struct'
import { writeGpt } from './gpt'
import { mbrWrites } from './mbr-write'
import { readScheme } from '.'
import { addEntry, retype } from './entry'
import { type GptPartition, TYPE_GUIDS } from './types'
import { runsOf } from '../testing'

const MIB = 1024 * 1024

/** Sectors that differ, each with the places in it. */
async function differing(a: MemoryDevice, b: MemoryDevice): Promise<Map<number, number[]>> {
  const found = new Map<number, number[]>()
  const [one, other] = [await readBytes(a, 0, a.size), await readBytes(b, 0, b.size)]
  for (let at = 0; at < one.length; at++) {
    if (one[at] === other[at]) continue
    const sector = Math.floor(at / a.logicalSectorSize)
    found.set(sector, [...(found.get(sector) ?? []), at % a.logicalSectorSize])
  }
  return found
}

const partition = (number: number, firstLba: number, sectors: number): GptPartition => ({
  number,
  typeGuid: TYPE_GUIDS.linuxData,
  guid: `10000000-0000-4000-8000-000000000${String(number).padStart(3, '0')}`,
  firstLba,
  lastLba: firstLba + sectors - 1,
  attributes: '8000000000000005',
  name: `Volume ${number}`,
})

describe('the type of an entry', () => {
  it('of any GPT changes alone, with the checksums over it', async () => {
    const tables = fc.record({
      numbers: fc.uniqueArray(fc.integer({ min: 1, max: 128 }), { minLength: 1, maxLength: 20 }),
      pick: fc.nat(),
      sector: fc.constantFrom(512 as const, 4096 as const),
    })
    await fc.assert(
      fc.asyncProperty(tables, async ({ numbers, pick, sector }) => {
        const make = async () => {
          const drive = new MemoryDevice(8 * MIB, sector)
          await drive.write(200 * sector, new Uint8Array(sector).fill(7))
          const partitions = numbers.map((number, i) => partition(number, 64 + i * 64, 64))
          await writeGpt(drive, { diskGuid: partition(1, 0, 1).guid, entryCount: 128, entrySize: 128, partitions })
          return drive
        }
        const [before, after] = [await make(), await make()]
        const number = numbers[pick % numbers.length]
        await retype(after, number, { typeGuid: TYPE_GUIDS.basicData })
        const last = before.size / sector - 1
        const entry = ((number - 1) * 128) % sector
        const row = Math.floor(((number - 1) * 128) / sector)
        const rows = Math.ceil((128 * 128) / sector)
        for (const [at, places] of await differing(before, after)) {
          const header = at === 1 || at === last
          // A header's own checksum, and that of the entries.
          const mayBe = header ? [16, 17, 18, 19, 88, 89, 90, 91] : Array.from({ length: 16 }, (_, i) => entry + i)
          expect([1, 2 + row, last - rows + row, last]).toContain(at)
          expect(places.filter((place) => !mayBe.includes(place))).toEqual([])
        }
        const reading = await readScheme(after)
        expect(reading?.scheme).toBe('gpt')
        expect(reading?.findings.filter((f) => f.severity === 'damage')).toEqual([])
        for (const found of reading!.partitions)
          expect(found.typeGuid).toBe(found.number === number ? TYPE_GUIDS.basicData : TYPE_GUIDS.linuxData)
      }),
      { numRuns: runsOf(8, 250) },
    )
  })

  it('of an MBR changes alone, of a logical partition in its own record', async () => {
    const make = async () => {
      const drive = new MemoryDevice(8 * MIB)
      const sectors = (number: number, firstLba: number, recordLba = 0) => ({
        ...{ number, firstLba, recordLba, sectors: 1000, type: 0x83, active: false },
      })
      const logical = [sectors(5, 6000, 5000), sectors(6, 8000, 7500)]
      const extended = { number: 2, firstLba: 5000, sectors: 6000, logical }
      const table = { diskSignature: '01234567', bootCode: undefined, primary: [sectors(1, 2048)], extended }
      for (const { offset, bytes } of mbrWrites(table, 512)) await drive.write(offset, bytes)
      return drive
    }
    for (const [number, sector, at] of [
      [1, 0, 446 + 4],
      [5, 5000, 446 + 4],
      [6, 7500, 446 + 4],
    ] as const) {
      const [before, after] = [await make(), await make()]
      await retype(after, number, { mbrType: 7 })
      expect([...(await differing(before, after))], `partition ${number}`).toEqual([[sector, [at]]])
    }
  })

  it('is left where the table does not hold, has no such entry, or is of the other kind', async () => {
    const drive = new MemoryDevice(8 * MIB)
    await expect(retype(drive, 1, { mbrType: 7 })).rejects.toThrow(/no partition table/)
    const table = { diskGuid: partition(1, 0, 1).guid, entryCount: 128, entrySize: 128 }
    await writeGpt(drive, { ...table, partitions: [partition(1, 2048, 100)] })
    await expect(retype(drive, 2, { typeGuid: TYPE_GUIDS.basicData })).rejects.toThrow(/no partition 2/)
    await expect(retype(drive, 1, { mbrType: 7 })).rejects.toThrow(/GUIDs/)
    const backup = new Uint8Array(512)
    await drive.read(drive.size - 512, backup)
    viewOf(backup).setUint8(60, 1)
    await drive.write(drive.size - 512, backup)
    const whole = await readBytes(drive, 0, drive.size)
    await expect(retype(drive, 1, { typeGuid: TYPE_GUIDS.basicData })).rejects.toThrow(/checksum/)
    expect(sameBytes(await readBytes(drive, 0, drive.size), whole)).toBe(true)
  })
})

describe('a new entry', () => {
  const type = { typeGuid: TYPE_GUIDS.basicData }
  const guid = '20000000-0000-4000-8000-000000000001'

  it('of any GPT takes the first place that is free, and changes nothing else', async () => {
    const numbers = fc.uniqueArray(fc.integer({ min: 1, max: 128 }), { minLength: 1, maxLength: 20 })
    await fc.assert(
      fc.asyncProperty(numbers, fc.constantFrom(512 as const, 4096 as const), async (taken, sector) => {
        const make = async () => {
          const drive = new MemoryDevice(8 * MIB, sector)
          const partitions = taken.map((number, i) => partition(number, 64 + i * 64, 64))
          await writeGpt(drive, { diskGuid: partition(1, 0, 1).guid, entryCount: 128, entrySize: 128, partitions })
          return drive
        }
        const [before, after] = [await make(), await make()]
        const [firstLba, lastLba] = [64 + taken.length * 64, 64 + taken.length * 64 + 9]
        const number = await addEntry(after, { type, guid, firstLba, lastLba })
        expect(number).toBe(Array.from({ length: 129 }, (_, i) => i + 1).find((n) => !taken.includes(n)))
        const last = before.size / sector - 1
        const rows = Math.ceil((128 * 128) / sector)
        const row = Math.floor(((number - 1) * 128) / sector)
        expect([...(await differing(before, after)).keys()]).toEqual([1, 2 + row, last - rows + row, last])
        const reading = await readScheme(after)
        expect(reading!.findings.filter((f) => f.severity === 'damage')).toEqual([])
        expect(reading!.partitions.find((p) => p.number === number)).toMatchObject({ firstLba, lastLba, guid, ...type })
        expect(reading!.partitions).toHaveLength(taken.length + 1)
      }),
      { numRuns: runsOf(8, 250) },
    )
  })

  it('is not made over another partition, over the table itself, or where there is no place left', async () => {
    const drive = new MemoryDevice(8 * MIB)
    const table = { diskGuid: partition(1, 0, 1).guid, entryCount: 128, entrySize: 128 }
    await writeGpt(drive, { ...table, partitions: [partition(1, 2048, 100)] })
    const whole = await readBytes(drive, 0, drive.size)
    const add = (firstLba: number, lastLba: number) => addEntry(drive, { type, guid, firstLba, lastLba })
    await expect(add(2147, 2200)).rejects.toThrow(/Partition 1 lies/)
    await expect(add(30, 40)).rejects.toThrow(/table itself/)
    await expect(add(16_300, 16_383)).rejects.toThrow(/table itself/)
    expect(sameBytes(await readBytes(drive, 0, drive.size), whole)).toBe(true)
    const mbr = new MemoryDevice(8 * MIB)
    const primary = [1, 2, 3, 4].map((number) => ({
      ...{ number, firstLba: number * 2048, sectors: 1000, type: 0x83, active: false, recordLba: 0 },
    }))
    for (const { offset, bytes } of mbrWrites({ diskSignature: '01234567', bootCode: undefined, primary }, 512))
      await mbr.write(offset, bytes)
    await expect(addEntry(mbr, { type: { mbrType: 7 }, guid, firstLba: 12_000, lastLba: 12_100 })).rejects.toThrow(
      /four partitions/,
    )
  })
})
