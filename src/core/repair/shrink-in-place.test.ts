import { describe, expect, it } from 'vitest'
import { type BlockDevice, readBytes } from '../block/device'
import { MemoryDevice } from '../block/memory'
import { OverlayDevice } from '../block/overlay'
import { SliceDevice } from '../block/slice'
import { WrappedDevice } from '../block/wrapped'
import { MIB } from '../bytes/size'
import { formatFat32 } from '../filesystem/fat/format'
import { formatNtfs } from '../filesystem/ntfs/format'
import { content, expectConsistent, expectFiles, type Written } from '../filesystem/ntfs/testing'
import { readScheme } from '../scheme'
import { writeGpt } from '../scheme/gpt'
import { TYPE_GUIDS } from '../scheme/types'
import { deep, pattern, sameBytes } from '../testing'
import {
  applyShrink,
  asShrunk,
  planShrink,
  settleShrink,
  type ShrinkJournal,
  type ShrinkRecord,
  undoShrink,
} from './shrink-in-place'

const FILES: readonly Written[] = [
  { path: '/Cues/opening.dat', content: content(MIB, 2), fragments: 20 },
  { path: '/Cues/late.dat', content: content(2 * MIB, 4), gap: 2500 },
  { path: '/last.dat', content: content(MIB, 5), fragments: 100, gap: 500 },
]
const START = 2048
const VOLUME = 24 * MIB
const AFTER = 12 * MIB

/** The partition of the volume, and the one behind it. */
const partitionsFor = (bytes: number) => [
  { number: 2, firstLba: START, sectors: bytes / 512, typeGuid: TYPE_GUIDS.basicData },
  { number: 5, firstLba: START + bytes / 512, sectors: 8192, typeGuid: TYPE_GUIDS.linuxData },
]
const PARTITIONS = partitionsFor(VOLUME)

async function makeTable(bytes: number): Promise<MemoryDevice> {
  const drive = new MemoryDevice(bytes + 8 * MIB)
  const partitions = partitionsFor(bytes).map(({ number, firstLba, sectors, typeGuid }) => ({
    ...{ number, typeGuid, firstLba, lastLba: firstLba + sectors - 1, attributes: '0', name: `Volume ${number}` },
    guid: `10000000-0000-4000-8000-00000000000${number}`,
  }))
  await writeGpt(drive, { diskGuid: partitions[0].guid, entryCount: 128, entrySize: 128, partitions })
  return drive
}

/** A drive whose first volume has files at its end, remains of others in its free room, and a neighbour behind it. */
async function makeDrive(): Promise<MemoryDevice> {
  const drive = await makeTable(VOLUME)
  const volume = new SliceDevice(drive, START * 512, VOLUME)
  await volume.write(2 * MIB, pattern(8 * MIB, 6))
  await formatNtfs(volume, { label: 'Shows', serial: 9n, startSector: START, time: 1n, files: FILES })
  await drive.write((START + VOLUME / 512) * 512, pattern(4 * MIB, 8))
  return drive
}

const all = (device: BlockDevice) => readBytes(device, 0, device.size)

class Kept implements ShrinkJournal {
  record?: ShrinkRecord
  private aside = new Uint8Array()
  async keep(record: ShrinkRecord): Promise<void> {
    this.record = structuredClone(record)
  }
  async putAside(bytes: Uint8Array): Promise<number> {
    const at = this.aside.length
    const more = new Uint8Array(at + bytes.length)
    more.set(this.aside)
    more.set(bytes, at)
    this.aside = more
    return at
  }
  async flushAside(): Promise<void> {}
  async readAside(at: number, into: Uint8Array): Promise<void> {
    into.set(this.aside.subarray(at, at + into.length))
  }
}

class PowerCut extends Error {}

/** The power goes in the middle of a write: a part of it is on the medium. */
class Failing extends WrappedDevice {
  writes = 0
  constructor(
    base: BlockDevice,
    private readonly until: number,
  ) {
    super(base)
    delete this.discard
  }
  override async write(offset: number, from: Uint8Array): Promise<void> {
    if (this.writes++ < this.until) return this.base.write(offset, from)
    if (from.length > 512) await this.base.write(offset, from.subarray(0, Math.floor(from.length / 1024) * 512))
    throw new PowerCut()
  }
}

async function expectShrunk(device: BlockDevice): Promise<void> {
  const volume = new SliceDevice(device, START * 512, AFTER)
  await expectFiles(volume, FILES)
  await expectConsistent(volume)
  const reading = await readScheme(device)
  expect(reading?.findings.filter((f) => f.severity === 'damage')).toEqual([])
  expect(reading?.partitions.map((p) => [p.number, p.firstLba, p.lastLba])).toEqual([
    [2, START, START + AFTER / 512 - 1],
    [5, PARTITIONS[1].firstLba, PARTITIONS[1].firstLba + 8191],
  ])
  const neighbour = await readBytes(device, PARTITIONS[1].firstLba * 512, 4 * MIB)
  expect(sameBytes(neighbour, pattern(4 * MIB, 8))).toBe(true)
}

describe('a volume that is made smaller in its place', () => {
  it('keeps its files, as it was planned, with nothing else on the drive touched, and is taken back', async () => {
    const drive = await makeDrive()
    const before = await all(drive)
    const plan = await planShrink(drive, 2, AFTER)
    await expectShrunk(await asShrunk(drive, plan))
    expect(sameBytes(await all(drive), before)).toBe(true)
    const kept = new Kept()
    await applyShrink(drive, plan, kept)
    await expectShrunk(drive)
    expect(sameBytes(await all(await asShrunk(drive, { ...plan, moves: [], patches: [] })), await all(drive))).toBe(
      true,
    )
    expect(kept.record?.state).toBe('done')
    await undoShrink(drive, kept.record!, kept)
    expect(sameBytes(await all(drive), before)).toBe(true)
  })

  it('is byte for byte what it was after a cut at any write, also one while it is taken back, and goes then', async () => {
    const drive = await makeDrive()
    const before = await all(drive)
    const whole = new OverlayDevice(drive)
    const counting = new Failing(whole, Infinity)
    const plan = await planShrink(drive, 2, AFTER)
    await applyShrink(counting, plan, new Kept())
    const after = await all(whole)
    expect(counting.writes).toBeGreaterThan(20)
    const every = deep ? 1 : Math.ceil(counting.writes / 6)
    for (let cut = 0; cut < counting.writes; cut += every) {
      const medium = new OverlayDevice(drive)
      const kept = new Kept()
      await expect(applyShrink(new Failing(medium, cut), plan, kept)).rejects.toThrow(PowerCut)
      await expect(settleShrink(new Failing(medium, cut % 7), kept.record!, kept)).rejects.toThrow(PowerCut)
      expect(await settleShrink(medium, kept.record!, kept)).toBe(true)
      expect(sameBytes(await all(medium), before), `cut at write ${cut}`).toBe(true)
      if (cut % 5 > 0) continue
      await applyShrink(medium, await planShrink(medium, 2, AFTER), new Kept())
      expect(sameBytes(await all(medium), after)).toBe(true)
    }
  })

  it('is not taken back once it was used since, nor over what somebody else wrote', async () => {
    const drive = await makeDrive()
    const plan = await planShrink(drive, 2, AFTER)
    const kept = new Kept()
    await expect(applyShrink(new Failing(drive, 30), plan, kept)).rejects.toThrow(PowerCut)
    const table = plan.patches.at(-1)!
    await drive.write(table.offset, new Uint8Array(table.before.length).fill(0x5a))
    const now = await all(drive)
    await expect(settleShrink(drive, kept.record!, kept)).rejects.toThrow(/changed since/)
    expect(sameBytes(await all(drive), now)).toBe(true)
    const other = await makeDrive()
    const done = new Kept()
    await applyShrink(other, await planShrink(other, 2, AFTER), done)
    const [patch] = plan.patches
    await other.write(patch.offset, new Uint8Array(patch.after.length).fill(0x5a))
    await expect(undoShrink(other, done.record!, done)).rejects.toThrow(/changed since/)
  })

  it('is not taken back once something was put where its files were, or where they are', async () => {
    const plan = await planShrink(await makeDrive(), 2, AFTER)
    const [move] = plan.moves
    for (const at of [move.from, move.to]) {
      const drive = await makeDrive()
      const kept = new Kept()
      await applyShrink(drive, plan, kept)
      await drive.write(at, new Uint8Array(512).fill(0x5a))
      const now = await all(drive)
      await expect(undoShrink(drive, kept.record!, kept)).rejects.toThrow(/changed since/)
      expect(sameBytes(await all(drive), now)).toBe(true)
    }
    // A file that the old volume got after a cut lies in room that was taken for free.
    const cut = await makeDrive()
    const kept = new Kept()
    await expect(applyShrink(new Failing(cut, 3), plan, kept)).rejects.toThrow(PowerCut)
    await cut.write(plan.moves.at(-1)!.to, new Uint8Array(512).fill(0x5a))
    await expect(settleShrink(cut, kept.record!, kept)).rejects.toThrow(/changed since/)
  })

  it('is refused where that cannot be, before anything is written', async () => {
    const drive = await makeDrive()
    const before = await all(drive)
    await expect(planShrink(drive, 2, 4 * MIB)).rejects.toThrow(/are missing/)
    await expect(planShrink(drive, 2, 60 * MIB)).rejects.toThrow(/only made smaller/)
    await expect(planShrink(drive, 5, MIB)).rejects.toThrow(/nothing known/)
    await expect(planShrink(drive, 9, MIB)).rejects.toThrow(/no partition 9/)
    expect(sameBytes(await all(drive), before)).toBe(true)
  })

  it('can be a FAT32', async () => {
    const drive = await makeTable(48 * MIB)
    const volume = new SliceDevice(drive, START * 512, 48 * MIB)
    const files = [{ path: '/notes.txt', content: content(40_000, 3) }]
    await formatFat32(volume, { label: 'Shows', serial: 9, startSector: START, files })
    await applyShrink(drive, await planShrink(drive, 2, 40 * MIB), new Kept())
    await expectFiles(new SliceDevice(drive, START * 512, 40 * MIB), files)
  })
})
