import { beforeAll, describe, expect, it } from 'vitest'
import type { BlockDevice } from '../block/device'
import { MemoryDevice } from '../block/memory'
import { OverlayDevice } from '../block/overlay'
import { readOnly } from '../block/readonly'
import { SliceDevice } from '../block/slice'
import { MIB } from '../bytes/size'
import { NtfsVolume } from '../filesystem/ntfs/volume'
import { solveFit } from '../fit/solve'
import type { Layout } from '../fit/types'
import { surveyDrive } from '../survey/survey'
import { deep, pattern } from '../testing'
import { blake3, makeSystemDisk, sha256, storedDigest } from '../testing-disk'
import { readMarker } from '../survey/marker'
import { type CopyPlan, planCopy } from './plan'
import { CopyEnded, runCopy } from './run'
import { SourceChanged } from './source-binding'
import { Targets } from './targets'
import { Failed, type Fault, FaultBench } from './testing'

const SIZE = 300 * MIB
let source: MemoryDevice
let layout: Layout
let plan: CopyPlan
let wanted: string
let asked: Readonly<Record<Fault['of'], number>>

const options = (bench: FaultBench, verify = true) => ({
  digest: blake3,
  note: 'Ticket desk',
  job: 'job-1',
  work: 'work',
  onStep: async () => {},
  verify,
  journal: bench.journal,
  from: bench.state,
})

beforeAll(async () => {
  const files = Array.from({ length: 260 }, (_, i) => ({
    path: `/Charts/${i}.dat`,
    content: pattern(9000, i),
    gap: 24,
  }))
  source = await makeSystemDisk({ sizeBytes: 220 * MIB, systemFiles: files })
  const fit = solveFit(await surveyDrive(source, sha256), { sizeBytes: SIZE, logicalSectorSize: 512 })
  if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
  layout = fit.layout
  plan = await planCopy(readOnly(source), layout)
  const bench = new FaultBench()
  const whole = new MemoryDevice(SIZE)
  await runCopy(plan, bench.drive(whole), options(bench))
  wanted = await storedDigest(whole)
  asked = bench.asked
})

const SOME = 5

/** Every one of few, or some of many and always the last ones. */
function instants(count: number): number[] {
  if (deep || count < SOME + 3) return Array.from({ length: count }, (_, i) => i + 1)
  const step = count / SOME
  return [...new Set([...Array.from({ length: SOME }, (_, i) => 1 + Math.floor(i * step)), count - 1, count])]
}

describe.each(['write', 'flush', 'journal'] as const)('a %s that fails', (of) => {
  it.each([
    ['read back', true],
    ['not read back', false],
  ])('ends the copy, which resumes to the same bytes, %s', async (_how, verify) => {
    for (const at of instants(asked[of])) {
      const medium = new MemoryDevice(SIZE)
      await medium.write(8 * MIB, pattern(MIB, 3))
      const bench = new FaultBench({ of, at })
      const first = await runCopy(plan, bench.drive(medium), options(bench, verify)).catch((error: unknown) => error)
      // Without verification fewer are asked for, so that the fault is not met each time.
      if (!(first instanceof Failed)) {
        expect(verify, `${of} ${at}`).toBe(false)
        continue
      }
      bench.mend()
      const begun = bench.state?.erased ?? false
      const second = await runCopy(plan, bench.drive(medium), options(bench, verify)).catch((error: unknown) => error)
      if (second instanceof Error) {
        // Refused, and then never taken for whole: its mark did not reach the target, or it has ended but for its last line.
        expect(begun, `${of} ${at}: ${second.message}`).toBe(false)
        continue
      }
      expect(await storedDigest(medium), `${of} ${at}`).toBe(wanted)
    }
  })

  it.runIf(of !== 'journal')('lets one of two targets go, and the other becomes whole', async () => {
    for (const at of instants(asked[of]).slice(0, -2)) {
      const [failing, sound] = [new MemoryDevice(SIZE), new MemoryDevice(SIZE)]
      const bench = new FaultBench({ of, at })
      const drives = [bench.drive(failing), bench.drive(sound, false)]
      const { letGo } = await runCopy(plan, drives, options(bench))
      expect([...letGo.keys()], `${of} ${at}`).toEqual([0])
      expect(await storedDigest(sound)).toBe(wanted)
    }
  })
})

describe('a drive and a journal that both fail', () => {
  const some = (count: number) => (deep ? instants(count) : instants(count).filter((_, i) => i % SOME === 0))

  it.each([
    ['read back', true],
    ['not read back', false],
  ])('each at its own moment, leave what resumes to the same bytes or is refused, %s', async (_how, verify) => {
    const outcomes = new Set<string>()
    for (const of of ['write', 'flush'] as const) {
      for (const at of some(asked[of])) {
        for (const line of some(asked.journal)) {
          const medium = new MemoryDevice(SIZE)
          // A fault is met once; one that the first run does not come to is met by a later one.
          const bench = new FaultBench({ of, at }, { of: 'journal', at: line })
          const where = `${of} ${at}, line ${line}`
          let begun = false
          let last: unknown = new Failed()
          for (let run = 0; run < 4 && last instanceof Failed; run++) {
            begun = bench.state?.erased ?? false
            last = await runCopy(plan, bench.drive(medium), options(bench, verify)).catch((error: unknown) => error)
          }
          if (last instanceof Error) {
            expect(begun, `${where}: ${last.message}`).toBe(false)
            outcomes.add('refused')
          } else {
            expect(await storedDigest(medium), where).toBe(wanted)
            outcomes.add('equal')
          }
        }
      }
    }
    expect(outcomes).toContain('equal')
  })
})

describe('several targets', () => {
  const failing = (device: BlockDevice, gate: Promise<void>): BlockDevice => ({
    ...readOnly(device),
    write: () => gate.then(() => Promise.reject(new Failed())),
    flush: () => gate.then(() => Promise.reject(new Failed())),
  })

  it('go on with the sound one when the other fails in two calls at one moment', async () => {
    let open = () => {}
    const gate = new Promise<void>((resolve) => (open = resolve))
    const sound = new MemoryDevice(MIB)
    const told: number[] = []
    const targets = new Targets([failing(new MemoryDevice(MIB), gate), sound], new Map(), async (index) => {
      told.push(index)
    })
    const both = Promise.all([targets.write(0, pattern(512, 1)), targets.flush()])
    open()
    await both
    expect(told).toEqual([0])
    expect(targets.now.map(({ index }) => index)).toEqual([1])
  })

  it('fail together when the last ones fail at one moment', async () => {
    const gate = Promise.resolve()
    const two = [0, 1].map(() => failing(new MemoryDevice(MIB), gate))
    const targets = new Targets(two, new Map(), async () => {})
    await expect(Promise.all([targets.write(0, pattern(512, 1)), targets.flush()])).rejects.toBeInstanceOf(Failed)
  })
})

describe('a resume', () => {
  /** A copy that failed when so many writes were done, with what it stood on. */
  async function cutAt(share: number) {
    const medium = new MemoryDevice(SIZE)
    const bench = new FaultBench({ of: 'write', at: Math.floor(asked.write * share) })
    await expect(runCopy(plan, bench.drive(medium), options(bench))).rejects.toBeInstanceOf(Failed)
    bench.mend()
    return { medium, bench }
  }

  it.each([
    ['in a file that is copied', 0.8, '/Charts/3.dat'],
    ['in what is not copied yet', 0.4, '/Charts/3.dat'],
  ])('is refused when the source has changed %s', async (_where, share, path) => {
    const { medium, bench } = await cutAt(share)
    const changed = await changedSource(path)
    const other = await planCopy(readOnly(changed), layout)
    const refusal = await runCopy(other, bench.drive(medium), options(bench)).catch((error: unknown) => error)
    expect(refusal).toBeInstanceOf(SourceChanged)
    expect((refusal as SourceChanged).what).toBe('source')
    expect(await readMarker(medium)).toBeDefined()
  })

  it('is refused when every piece is compared and one byte of content differs', async () => {
    const { medium, bench } = await cutAt(0.8)
    const pieces = []
    for await (const piece of plan.pieces()) if (!piece.zero) pieces.push(piece)
    const changed = new OverlayDevice(source)
    const at = pieces[Math.floor(bench.state!.pieces / 2)].sourceOffset
    const sector = new Uint8Array(512)
    await changed.read(at, sector)
    sector[7] ^= 0x55
    await changed.write(at, sector)
    const other = await planCopy(readOnly(changed), layout)
    await expect(runCopy(other, bench.drive(medium), { ...options(bench), recheck: 'every' })).rejects.toBeInstanceOf(
      SourceChanged,
    )
  })

  it('is refused when the target does not hold what was written to it', async () => {
    const { medium, bench } = await cutAt(0.8)
    for await (const piece of plan.pieces()) {
      if (!piece.zero && piece.offset > 0) await medium.write(piece.offset, pattern(512, 99))
    }
    const refusal = await runCopy(plan, bench.drive(medium), options(bench, false)).catch((error: unknown) => error)
    expect(refusal).toMatchObject({ name: 'SourceChanged', what: 'target' })
  })

  it('of a copy that has ended is refused and writes nothing', async () => {
    const medium = new MemoryDevice(SIZE)
    const bench = new FaultBench()
    await runCopy(plan, bench.drive(medium), options(bench))
    await medium.write(0, pattern(512, 7))
    const before = await storedDigest(medium)
    await expect(runCopy(plan, bench.drive(medium), options(bench))).rejects.toBeInstanceOf(CopyEnded)
    expect(await storedDigest(medium)).toBe(before)
  })

  /** The source after a system has written to one of its files: its record has another time. */
  async function changedSource(path: string): Promise<BlockDevice> {
    const changed = new OverlayDevice(source)
    const system = layout.partitions.find((p) => p.role === 'system')!
    const bytes = (system.sourceLastLba - system.sourceFirstLba + 1) * 512
    const slice = new SliceDevice(changed, system.sourceFirstLba * 512, bytes)
    const volume = await NtfsVolume.open(slice)
    const name = path.split('/').at(-1)!
    for await (const record of volume.usedRecords()) {
      const named = record.attributes.find((a) => a.type === 0x30)?.value
      if (!named || Buffer.from(named.subarray(66)).toString('utf16le') !== name) continue
      const at = Math.floor(volume.recordOffset(record.number) / 512) * 512
      const sector = new Uint8Array(512)
      await slice.read(at, sector)
      sector[record.attributes[0].at + 24 + 8] ^= 1
      await slice.write(at, sector)
    }
    return changed
  }
})
