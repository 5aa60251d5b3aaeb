import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '../block/memory'
import { MIB } from '../bytes/size'
import { readScheme } from '.'
import { writeGpt } from './gpt'
import { readMbrSector } from './mbr'
import { MBR_RECORD, MBR_TYPES } from './mbr-layout'
import { mbrWrites, type NewMbr } from './mbr-write'
import { TYPE_GUIDS } from './types'

const SIZE = 400 * MIB

const TABLE: NewMbr = {
  diskSignature: '7b3f0c11',
  bootCode: new Uint8Array(440).fill(0xeb),
  primary: [
    { type: MBR_TYPES.ntfs, firstLba: 2048, sectors: 4096, active: true },
    { type: MBR_TYPES.linux, firstLba: 8192, sectors: 8192 },
  ],
  extended: {
    firstLba: 20480,
    sectors: 409600,
    logical: [
      { type: MBR_TYPES.ntfs, recordLba: 20480, firstLba: 22528, sectors: 20480 },
      { type: MBR_TYPES.linuxSwap, recordLba: 43008, firstLba: 45056, sectors: 2048 },
      { type: MBR_TYPES.fat32Lba, recordLba: 47104, firstLba: 49152, sectors: 300000 },
    ],
  },
}

async function driveWith(table: NewMbr, size = SIZE): Promise<MemoryDevice> {
  const device = new MemoryDevice(size)
  for (const { offset, bytes } of mbrWrites(table, 512)) await device.write(offset, bytes)
  return device
}

async function patch(device: MemoryDevice, lba: number, change: (bytes: Uint8Array) => void): Promise<void> {
  const bytes = new Uint8Array(512)
  await device.read(lba * 512, bytes)
  change(bytes)
  await device.write(lba * 512, bytes)
}

async function mbrOf(device: MemoryDevice) {
  const reading = await readScheme(device)
  expect(reading?.scheme).toBe('mbr')
  return reading!
}

const codes = (reading: { findings: readonly { code: string }[] }) => reading.findings.map((f) => f.code)

describe('an MBR', () => {
  it('gives back primary, extended and logical partitions with their numbers', async () => {
    const reading = await mbrOf(await driveWith(TABLE))
    expect(reading.findings).toEqual([])
    expect(
      reading.partitions.map((p) => [p.number, p.mbr!.kind, p.mbr!.type, p.mbr!.active, p.firstLba, p.lastLba]),
    ).toEqual([
      [1, 'primary', 7, true, 2048, 6143],
      [2, 'primary', 0x83, false, 8192, 16383],
      [3, 'extended', 0x0f, false, 20480, 430079],
      [5, 'logical', 7, false, 22528, 43007],
      [6, 'logical', 0x82, false, 45056, 47103],
      [7, 'logical', 0x0c, false, 49152, 349151],
    ])
    expect(reading.partitions.map((p) => p.guid).slice(3)).toEqual(['7b3f0c11-05', '7b3f0c11-06', '7b3f0c11-07'])
    const sector = await readMbrSector(await driveWith(TABLE))
    expect([sector?.diskSignature, sector?.hasBootCode, sector?.protective]).toEqual(['7b3f0c11', true, false])
  })

  it.each<[string, (device: MemoryDevice) => Promise<void>, string, number]>([
    [
      'leads back to itself',
      (d) => patch(d, 43008, (b) => MBR_RECORD.write(b, { firstLba: 0 }, 462)),
      'mbr.chain-broken',
      5,
    ],
    [
      'leaves its container',
      (d) => patch(d, 43008, (b) => MBR_RECORD.write(b, { firstLba: 500_000 }, 462)),
      'mbr.chain-broken',
      5,
    ],
    ['breaks off', (d) => patch(d, 43008, (b) => b.fill(0)), 'mbr.chain-broken', 4],
  ])('whose chain of logical partitions %s keeps what came before', async (_what, damage, code, count) => {
    const device = await driveWith(TABLE)
    await damage(device)
    const reading = await mbrOf(device)
    expect(codes(reading)).toContain(code)
    expect(reading.partitions).toHaveLength(count)
  })

  it('whose logical partition reaches out of its container, or another overlaps, is told', async () => {
    const device = await driveWith(TABLE)
    await patch(device, 47104, (b) => MBR_RECORD.write(b, { sectors: 400_000 }, 446))
    await patch(device, 0, (b) => MBR_RECORD.write(b, { sectors: 7000 }, 446))
    expect(codes(await mbrOf(device))).toEqual(['mbr.outside-container', 'mbr.overlap'])
  })

  it('made for a larger drive is told', async () => {
    const device = await driveWith(TABLE, 200 * MIB)
    expect(codes(await mbrOf(device))).toContain('mbr.out-of-range')
  })

  it('with two active partitions is told', async () => {
    const device = await driveWith(TABLE)
    await patch(device, 0, (b) => (b[462] = 0x80))
    expect(codes(await mbrOf(device))).toContain('mbr.several-active')
  })

  it('is not seen in the boot sector of a file system', async () => {
    const device = new MemoryDevice(SIZE)
    await patch(device, 0, (b) => {
      b.fill(0x4e, 400, 510)
      b.set([0x55, 0xaa], 510)
    })
    expect(await readMbrSector(device)).toBeUndefined()
  })

  it('counts for more than a GPT it does not announce', async () => {
    const device = new MemoryDevice(SIZE)
    await writeGpt(device, {
      diskGuid: '91f0c1d2-1111-4222-8333-4444555533c7',
      entryCount: 128,
      entrySize: 128,
      partitions: [],
    })
    for (const { offset, bytes } of mbrWrites({ ...TABLE, extended: undefined }, 512)) await device.write(offset, bytes)
    expect(codes(await mbrOf(device))).toEqual(['mbr.left-over-gpt'])
  })
})

describe('a hybrid MBR', () => {
  it('is told apart from a protective one', async () => {
    const device = new MemoryDevice(SIZE)
    const partition = {
      number: 1,
      typeGuid: TYPE_GUIDS.basicData,
      guid: '11111111-2222-4333-8444-555555555502',
      name: '',
      firstLba: 2048,
      lastLba: 4095,
      attributes: '0'.repeat(16),
    }
    const diskGuid = '91f0c1d2-1111-4222-8333-4444555533c7'
    await writeGpt(device, { diskGuid, entryCount: 128, entrySize: 128, partitions: [partition] })
    const before = await readScheme(device)
    expect(before?.scheme === 'gpt' && [before.gpt.protectiveMbr, before.gpt.hybridMbr]).toEqual([true, false])
    await patch(device, 0, (b) => MBR_RECORD.write(b, { type: 7, firstLba: 2048, sectors: 2048 }, 462))
    const after = await readScheme(device)
    expect(after?.scheme === 'gpt' && [after.gpt.protectiveMbr, after.gpt.hybridMbr]).toEqual([true, true])
    expect(codes(after!)).toContain('gpt.hybrid-mbr')
    // With both copies of the GPT gone, the hybrid still names a partition.
    await device.write(512, new Uint8Array(512))
    await device.write(SIZE - 512, new Uint8Array(512))
    const lost = await readScheme(device)
    expect([lost?.scheme, lost?.partitions.length, codes(lost!)[0]]).toEqual(['damaged', 1, 'drive.gpt-lost'])
  })
})

describe('any MBR', () => {
  it('that was written is read the same', async () => {
    const logical = fc.array(
      fc.record({ gap: fc.integer({ min: 1, max: 4000 }), sectors: fc.integer({ min: 1, max: 9000 }) }),
      {
        minLength: 1,
        maxLength: 12,
      },
    )
    await fc.assert(
      fc.asyncProperty(logical, fc.boolean(), async (parts, active) => {
        let next = 20480
        const placed = parts.map(({ gap, sectors }) => {
          const recordLba = next
          const firstLba = recordLba + gap
          next = firstLba + sectors
          return { type: MBR_TYPES.linux, recordLba, firstLba, sectors }
        })
        const table: NewMbr = {
          diskSignature: '00c0ffee',
          primary: [{ type: 7, firstLba: 63, sectors: 2000, active }],
          extended: { firstLba: 20480, sectors: next - 20480, logical: placed },
        }
        const reading = await mbrOf(await driveWith(table))
        expect(reading.findings).toEqual([])
        expect(reading.partitions.slice(2).map((p) => [p.firstLba, p.lastLba - p.firstLba + 1])).toEqual(
          placed.map((p) => [p.firstLba, p.sectors]),
        )
      }),
      { numRuns: 200 },
    )
  })
})
