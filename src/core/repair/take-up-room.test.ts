import { describe, expect, it } from 'vitest'
import { type BlockDevice, readBytes } from '../block/device'
import { MemoryDevice } from '../block/memory'
import type { Candidate } from '../boot/start'
import { MIB } from '../bytes/size'
import { openFileSystem } from '../filesystem'
import { expectConsistent } from '../filesystem/ntfs/testing'
import { putNtfsFile } from '../filesystem/ntfs/put-file'
import { readScheme } from '../scheme'
import { writeGpt } from '../scheme/gpt'
import { type GptPartition, TYPE_GUIDS } from '../scheme/types'
import { sliceOf } from '../boot/start'
import { makeBiosDisk, makeSystemDisk, part, storedDigest, SYSTEM_GUID } from '../testing-disk'
import { collect, pattern, sameBytes } from '../testing'
import { applyRepair, RepairRecordSchema, undoRepair } from './apply'
import { planRepair } from '.'
import { roomBehind } from './kinds/take-up-room'

const notes = pattern(5000, 4)
const subject = (device: BlockDevice) => ({ device, mode: 'uefi' as const, time: 1n })

async function candidateOf(device: BlockDevice): Promise<Candidate> {
  return { drive: { driveId: '', name: '', slot: '', device }, reading: (await readScheme(device)) as never }
}

/** The system disk on a larger drive, its recovery partition wherever it is put, or left out. */
async function onLarger(recovery?: { firstLba: number; sectors: number }): Promise<MemoryDevice> {
  const small = await makeSystemDisk({ systemFiles: [{ path: '/notes.txt', content: notes }] })
  const large = new MemoryDevice(700 * MIB)
  for (const { offset, length } of await small.mapped(0, small.size))
    await large.write(offset, await readBytes(small, offset, length))
  const reading = (await readScheme(small))!
  if (reading.scheme !== 'gpt') throw new Error('it should be a GPT')
  const { diskGuid, entryCount, entrySize, partitions } = reading.gpt.table
  const kept: GptPartition[] = partitions.filter((p) => p.number < 4)
  if (recovery)
    kept.push(part(4, TYPE_GUIDS.recovery, SYSTEM_GUID.replace('5d', '5e'), '', recovery.firstLba, recovery.sectors))
  await writeGpt(large, { diskGuid, entryCount, entrySize, partitions: kept })
  return large
}

describe('a volume on which a system sleeps', () => {
  it('keeps its size here as it does in a fit', async () => {
    const large = await onLarger()
    const system = (await readScheme(large))!.partitions.find((p) => p.number === 3)!
    await putNtfsFile(sliceOf(large, system), '/hiberfil.sys', new TextEncoder().encode('hibr'.padEnd(9000, '.')), 1n)
    await expect(planRepair('take-up-room', subject(large))).rejects.toThrow(/sleeps/)
  })
})

describe('room behind a partition', () => {
  it('is what lies between it and the next one, or the table at the end', async () => {
    const whole = roomBehind(await candidateOf(await onLarger()))!
    expect(whole.partition.number).toBe(3)
    expect((whole.lastLba + 1) % 2048).toBe(0)
    expect(whole.bytes).toBeGreaterThan(300 * MIB)
    const next = 600 * 2048
    const between = roomBehind(await candidateOf(await onLarger({ firstLba: next, sectors: 2048 })))!
    expect(between).toMatchObject({ partition: { number: 3 }, lastLba: next - 1 })
  })

  it('is not given to what a start and a rescue rest on', async () => {
    const { partitions } = (await readScheme(await onLarger()))!
    const behind = partitions[2].lastLba + 1
    // All that is free lies behind the recovery partition.
    expect(roomBehind(await candidateOf(await onLarger({ firstLba: behind, sectors: 2048 })))).toBeUndefined()
    expect(
      (await planRepair('take-up-room', subject(await onLarger({ firstLba: behind, sectors: 2048 })))).patches,
    ).toEqual([])
  })

  it('of less than a mebibyte counts for nothing', async () => {
    const { partitions } = (await readScheme(await onLarger()))!
    const firstLba = partitions[2].lastLba + 1 + 1024
    const sectors = 700 * 2048 - firstLba - 2048
    expect(roomBehind(await candidateOf(await onLarger({ firstLba, sectors })))).toBeUndefined()
  })
})

describe('taking up room', () => {
  it.each<[string, () => Promise<MemoryDevice>, number, number]>([
    ['in a GPT', onLarger, 3, 500 * MIB],
    ['in an MBR', () => makeBiosDisk(32 * 2048), 2, 120 * MIB],
  ])(
    '%s makes the partition and its volume larger, and is taken back byte for byte',
    async (_where, make, number, least) => {
      const device = await make()
      const before = await storedDigest(device)
      const sizeOf = async () => {
        const partition = (await readScheme(device))!.partitions.find((p) => p.number === number)!
        return sliceOf(device, partition)
      }
      const filesOf = async () => {
        const volume = (await openFileSystem(await sizeOf()))!
        const entries = await volume.list('/')
        return { entries, used: (await collect(volume.usedExtents())).length, total: volume.totalBytes, volume }
      }
      const old = await filesOf()
      const { size } = await sizeOf()
      const plan = await planRepair('take-up-room', subject(device))
      expect(await storedDigest(device)).toBe(before)
      expect(plan.changes).toEqual([expect.stringMatching(new RegExp(`^Partition ${number} ends .* later`))])
      const kept: string[] = []
      await applyRepair(device, plan, { keep: async (text) => void kept.push(text) })
      const grown = await sizeOf()
      expect(grown.size).toBe(plan.grows!.sizeBytes)
      expect(grown.size).toBeGreaterThan(Math.max(size, least))
      await expectConsistent(grown)
      const now = await filesOf()
      expect(now.entries).toEqual(old.entries)
      expect(now.total).toBeGreaterThan(grown.size - 2 * MIB)
      if (number === 3) expect(sameBytes(await now.volume.readFile('/notes.txt'), notes)).toBe(true)
      expect((await readScheme(device))!.findings).toEqual([])
      expect((await planRepair('take-up-room', subject(device))).patches).toEqual([])
      await undoRepair(device, RepairRecordSchema.parse(JSON.parse(kept.at(-1)!)), { keep: async () => {} })
      expect(await storedDigest(device)).toBe(before)
    },
  )

  it('is refused where the volume in front cannot be made larger', async () => {
    const device = await onLarger()
    const { partitions } = (await readScheme(device))!
    // Nothing is known of it any more.
    await device.write(partitions[2].firstLba * 512, new Uint8Array(512))
    await expect(planRepair('take-up-room', subject(device))).rejects.toThrow(/cannot be made larger here/)
  })
})
