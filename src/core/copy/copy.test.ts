import { describe, expect, it } from 'vitest'
import { type BlockDevice, DeviceGone, readBytes } from '../block/device'
import { MemoryDevice } from '../block/memory'
import { readOnly } from '../block/readonly'
import { SliceDevice } from '../block/slice'
import { GIB, MIB } from '../bytes/size'
import { openFileSystem } from '../filesystem'
import { solveFit } from '../fit/solve'
import { fitSizes } from '../fit/types'
import { readGpt } from '../scheme/gpt'
import { surveyDrive } from '../survey/survey'
import { pattern, sameBytes } from '../testing'
import { blake3, makeSystemDisk, sha256, type TestDisk } from '../testing-disk'
import { readMarker } from '../survey/marker'
import { PIECE_BYTES, ZERO_PIECE_BYTES } from './division'
import { planCopy } from './plan'
import { CheckFailed } from './check'
import { type CopyOptions, type CopyStep, runCopy } from './run'

async function prepare(disk: TestDisk = {}, targetSize = 3 * GIB) {
  const source = await makeSystemDisk(disk)
  const survey = await surveyDrive(source, sha256)
  const fit = solveFit(survey, { sizeBytes: targetSize, logicalSectorSize: 512 })
  if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
  const plan = await planCopy(readOnly(source), fit.layout)
  return { source, survey, layout: fit.layout, plan, target: new MemoryDevice(targetSize) }
}

function options(changes: Partial<CopyOptions> = {}): CopyOptions {
  return { digest: blake3, note: 'Ticket desk', onStep: async () => {}, ...changes }
}

describe('a copy', () => {
  it('puts every file in its new place, grows the volume and leaves the source as it was', async () => {
    const { source, survey, layout, plan, target } = await prepare()
    await target.write(400 * MIB, pattern(MIB, 9))
    const before = sha256(await readBytes(source, 0, source.size))
    const outcome = await runCopy(plan, target, options())
    expect(outcome.copiedBytes).toBe(plan.totalBytes)
    expect(outcome.checkedBytes).toBe(plan.totalBytes)
    expect(sha256(await readBytes(source, 0, source.size))).toEqual(before)

    const reading = await readGpt(target)
    expect(reading?.findings).toEqual([])
    expect(reading?.table.diskGuid).toBe(survey.table!.diskGuid)
    const after = await surveyDrive(target, sha256)
    expect(after.partitions.map((p) => [p.number, p.guid, p.firstLba, p.lastLba])).toEqual(
      layout.partitions.map((p) => [p.number, p.guid, p.firstLba, p.lastLba]),
    )
    expect(after.loaders).toEqual(survey.loaders)
    const system = after.partitions[2]
    expect(system.findings).toEqual([])
    expect(system.volume!.totalBytes).toBe(system.sizeBytes - 512)
    const volume = (await openFileSystem(new SliceDevice(target, system.startBytes, system.sizeBytes)))!
    expect(sameBytes(await volume.readFile('/Windows/notes.txt'), pattern(3000, 3))).toBe(true)
    // What the drive held before is gone.
    expect((await readBytes(target, 400 * MIB, MIB)).every((byte) => byte === 0)).toBe(true)
  })

  it('tells a moved volume where it now starts', async () => {
    const { plan, target, layout } = await prepare()
    await runCopy(plan, target, options())
    const { firstLba, lastLba } = layout.partitions[3]
    for (const at of [firstLba, lastLba]) {
      const boot = await readBytes(target, at * 512, 512)
      expect(new DataView(boot.buffer, boot.byteOffset).getUint32(28, true)).toBe(firstLba)
    }
  })

  it('lists work in order of the target, in pieces of bounded size, each byte once', async () => {
    const { plan } = await prepare({ systemFiles: [{ path: '/big', unwrittenBytes: 100 * MIB, fragments: 30 }] })
    let end = 0
    let sum = 0
    for await (const piece of plan.pieces()) {
      expect(piece.offset).toBeGreaterThanOrEqual(end)
      expect(piece.length).toBeLessThanOrEqual(piece.zero ? ZERO_PIECE_BYTES : PIECE_BYTES)
      end = piece.offset + piece.length
      sum += piece.length
    }
    expect(sum).toBe(plan.totalBytes)
    expect(sum).toBe(plan.partitions.reduce((total, p) => total + p.bytes, 0))
  })

  it('writes no zeros to a target that was erased, and still counts them as copied', async () => {
    const content = new Uint8Array(20 * MIB)
    content.set(pattern(1000, 1), 7 * MIB)
    const { plan, target } = await prepare({ systemFiles: [{ path: '/mostly nothing', content }] })
    const outcome = await runCopy(plan, target, options())
    expect(outcome.copiedBytes).toBe(plan.totalBytes)
    expect(outcome.writtenBytes).toBeLessThan(plan.totalBytes - 10 * MIB)
    const system = (await surveyDrive(target, sha256)).partitions[2]
    const volume = (await openFileSystem(new SliceDevice(target, system.startBytes, system.sizeBytes)))!
    expect(sameBytes(await volume.readFile('/mostly nothing'), content)).toBe(true)
  })

  it('writes the first sector last and checks before it', async () => {
    const { plan, target } = await prepare()
    const writes: number[] = []
    const phases: CopyStep['phase'][] = []
    const watched = watch(target, (offset) => void writes.push(offset))
    await runCopy(
      plan,
      watched,
      options({ onStep: async ({ phase }) => void (phases.at(-1) === phase || phases.push(phase)) }),
    )
    expect(phases).toEqual(['erase', 'copy', 'check', 'tables'])
    expect(writes[0]).toBe(0)
    expect(writes.at(-1)).toBe(0)
    expect(writes.slice(1, -1)).not.toContain(0)
  })

  it('reads a piece while another is being written', async () => {
    const content = pattern(24 * MIB, 4)
    const { plan, target } = await prepare({ systemFiles: [{ path: '/scan', content }] })
    const underway = { read: 0, write: 0, both: 0 }
    const busy = (kind: 'read' | 'write') => async () => {
      underway[kind]++
      if (underway.read && underway.write) underway.both++
      await new Promise((resolve) => setImmediate(resolve))
      underway[kind]--
    }
    const expected = { ...readOnly(plan.expected), mapped: plan.expected.mapped!.bind(plan.expected) }
    const slowRead: BlockDevice = {
      ...expected,
      read: async (at, into) => (await busy('read')(), plan.expected.read(at, into)),
    }
    await runCopy({ ...plan, expected: slowRead }, watch(target, busy('write')), options())
    expect(underway.both).toBeGreaterThan(0)
  })

  it('that finds other bytes on reading back fails, names the sector and leaves the mark', async () => {
    const { plan, target } = await prepare()
    const bad = 230 * MIB
    const forgetful = watch(target, async (offset, from) => {
      if (offset <= bad && bad < offset + from.length) from[bad - offset] ^= 1
    })
    const source = (await collectPieces(plan)).find((p) => !p.zero && p.offset <= bad && bad < p.offset + p.length)
    const at = source ? bad : (await collectPieces(plan)).find((p) => !p.zero)!.offset
    const faulty = source ? forgetful : watch(target, async (offset, from) => void (offset === at && (from[0] ^= 1)))
    const failure = await runCopy(plan, faulty, options()).catch((error: unknown) => error)
    expect(failure).toBeInstanceOf(CheckFailed)
    expect((failure as CheckFailed).offset).toBe(Math.floor(at / 512) * 512)
    expect(await readMarker(target)).toEqual({ note: 'Ticket desk' })
    expect((await surveyDrive(target, sha256)).scheme).toBe('unfinished')
  })

  it('of long zeros writes them where the target held something, and finds the one byte that stays', async () => {
    const { plan, target } = await prepare({ systemFiles: [{ path: '/database', unwrittenBytes: 40 * MIB }] })
    const long = (await collectPieces(plan)).find(({ zero, length }) => zero && length > 4 * PIECE_BYTES)!
    const bad = long.offset + 3 * PIECE_BYTES + 5 * 512 + 7
    const inIt = (offset: number, { length }: Uint8Array) => offset <= bad && bad < offset + length
    for (const heals of [true, false]) {
      await target.write(long.offset, pattern(long.length, 5))
      let writes = 0
      const watched = watch(target, (offset, from) => {
        if (inIt(offset, from) && (++writes === 1 || !heals)) from[bad - offset] = 1
      })
      // It cannot be told to forget what it holds.
      const keeps = { ...watched, discard: undefined }
      const end = await runCopy(plan, keeps, options()).catch((error: unknown) => error)
      if (heals) expect(end).toMatchObject({ rewritten: 1, checkedBytes: plan.totalBytes })
      else expect((end as CheckFailed).places.map(({ offset }) => offset)).toEqual([Math.floor(bad / 512) * 512])
      const held = await readBytes(target, long.offset, long.length)
      expect(held.findIndex((byte) => byte !== 0)).toBe(heals ? -1 : bad - long.offset)
    }
  })

  it('that is stopped leaves the target marked', async () => {
    const { plan, target } = await prepare()
    let steps = 0
    const stop = () => {
      if (++steps > 5) throw new Error('stopped')
    }
    await expect(runCopy(plan, target, options({ checkpoint: stop }))).rejects.toThrow('stopped')
    expect(await readMarker(target)).toEqual({ note: 'Ticket desk' })
  })

  it('whose target goes away reports it, after the first write at the latest', async () => {
    const { plan, target } = await prepare({ systemFiles: [{ path: '/scan', content: pattern(12 * MIB, 4) }] })
    let count = 0
    const leaving = watch(target, async () => {
      if (++count > 3) throw new DeviceGone('The Corvina S5 in USB dock A, bay 1')
    })
    await expect(runCopy(plan, leaving, options())).rejects.toBeInstanceOf(DeviceGone)
  })

  it('refuses a target of another size, writing nothing', async () => {
    const { plan } = await prepare()
    const other = new MemoryDevice(2 * GIB)
    await expect(runCopy(plan, other, options())).rejects.toThrow(/not the drive this fit was made for/)
    expect(await other.mapped(0, other.size)).toEqual([])
  })

  it('of a volume that was not closed cleanly leaves its size as it is', async () => {
    const { plan, target, layout } = await prepare({ dirty: true })
    await runCopy(plan, target, options())
    const system = (await surveyDrive(target, sha256)).partitions[2]
    expect(layout.partitions[2].resizes).toBe(false)
    expect([system.sizeBytes, system.volume!.state]).toEqual([fitSizes(layout.partitions[2], layout).before, 'dirty'])
  })
})

async function collectPieces(plan: { pieces(): AsyncIterable<{ offset: number; length: number; zero: boolean }> }) {
  const all = []
  for await (const piece of plan.pieces()) all.push(piece)
  return all
}

/** The device, with every write shown to `onWrite` first. */
function watch(device: MemoryDevice, onWrite: (offset: number, from: Uint8Array) => Promise<void> | void): BlockDevice {
  return {
    size: device.size,
    logicalSectorSize: device.logicalSectorSize,
    physicalSectorSize: device.physicalSectorSize,
    read: (offset, into) => device.read(offset, into),
    write: async (offset, from) => {
      const own = from.slice()
      await onWrite(offset, own)
      await device.write(offset, own)
    },
    flush: () => device.flush(),
    discard: (offset, length) => device.discard(offset, length),
    mapped: (offset, length) => device.mapped(offset, length),
  }
}
