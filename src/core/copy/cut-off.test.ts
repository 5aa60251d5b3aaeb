import fc from 'fast-check'
import { beforeAll, describe, expect, it } from 'vitest'
import { readBytes } from '../block/device'
import { FaultyDevice } from '../block/faulty'
import { MemoryDevice } from '../block/memory'
import { readOnly } from '../block/readonly'
import { MIB } from '../bytes/size'
import { solveFit } from '../fit/solve'
import { surveyDrive } from '../survey/survey'
import { collect, pattern, runsOf } from '../testing'
import { blake3, makeSystemDisk, sha256, storedDigest } from '../testing-disk'
import { journalLine, journalRecords, stateOf } from './journal'
import { readMarker } from '../survey/marker'
import { type CopyPlan, planCopy } from './plan'
import { NotItsTarget, runCopy } from './run'
import { Cut, CutBench } from './testing'

const SIZE = 400 * MIB
const WORK = 'digest of the work'

let source: MemoryDevice
let plan: CopyPlan
let wanted: string
/** What a whole copy asks of its target and its journal. */
let operations: number

const options = (bench?: CutBench) => ({
  digest: blake3,
  note: 'Ticket desk',
  job: 'job-1',
  work: WORK,
  onStep: async () => {},
  ...(bench ? { journal: bench.journal, from: bench.state } : {}),
})

beforeAll(async () => {
  // Many small runs, so that the work list has hundreds of pieces and is made sure several times.
  const files = Array.from({ length: 300 }, (_, i) => ({
    path: `/Charts/${i}.dat`,
    content: pattern(9000, i),
    gap: 24,
  }))
  source = await makeSystemDisk({ sizeBytes: 320 * MIB, systemFiles: files })
  const fit = solveFit(await surveyDrive(source, sha256), { sizeBytes: SIZE, logicalSectorSize: 512 })
  if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
  plan = await planCopy(readOnly(source), fit.layout)
  const whole = new MemoryDevice(SIZE)
  const bench = new CutBench(whole, () => 0, Infinity)
  await runCopy(plan, bench.drive, options(bench))
  wanted = await storedDigest(whole)
  operations = bench.spent
})

const RUNS = runsOf(10, 200)

describe('a copy that is cut off', () => {
  it('goes on at any instant and ends byte-equal, and is marked until then', async () => {
    expect((await collect(plan.pieces())).length).toBeGreaterThan(250)
    let cuts = 0
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.integer({ min: 1, max: operations }), { minLength: 2, maxLength: 4 }),
        fc.integer(),
        fc.boolean(),
        async (lives, seed, filled) => {
          let random = Math.abs(seed % 2147483646) + 1
          const chance = () => (random = (random * 48271) % 2147483647) / 2147483647
          const target = new MemoryDevice(SIZE)
          // What was on the drive before must not come through.
          if (filled) for (let at = 0; at < SIZE; at += 20 * MIB) await target.write(at, pattern(65536, at / MIB))
          const bench = new CutBench(target, chance, lives[0])
          for (let life = 1; ; life++) {
            try {
              await runCopy(plan, bench.drive, options(bench))
              break
            } catch (error) {
              if (error instanceof NotItsTarget) {
                // It was cut off before its mark had reached the target: that is not taken for its own.
                expect(bench.state?.erased).toBe(false)
                expect(await readMarker(target)).toBeUndefined()
                bench.startOver()
                continue
              }
              if (!(error instanceof Cut)) throw error
              cuts++
              const { state } = bench
              if (state?.erased && !state.equal) expect((await readMarker(target))?.job).toBe('job-1')
              bench.again(lives[life] ?? Infinity)
            }
          }
          expect(await storedDigest(target)).toBe(wanted)
        },
      ),
      { numRuns: RUNS },
    )
    expect(cuts).toBeGreaterThan(RUNS)
  }, 240_000)

  it('reads again of what is on the target only a sample', async () => {
    const target = new MemoryDevice(SIZE)
    const bench = new CutBench(target, Math.random, Math.floor(operations / 3))
    await expect(runCopy(plan, bench.drive, options(bench))).rejects.toBeInstanceOf(Cut)
    const { pieces } = bench.state!
    expect(pieces).toBeGreaterThan(50)
    bench.again(Infinity)
    let before = 0
    let read = 0
    const counting = {
      ...readOnly(plan.expected),
      read: (at: number, into: Uint8Array) => (read++, plan.expected.read(at, into)),
    }
    const counted = {
      ...plan,
      expected: { ...counting, size: plan.expected.size, logicalSectorSize: 512 as const, physicalSectorSize: 512 },
    }
    const onStep = async (step: { before?: boolean }) => void (step.before && before++)
    await runCopy(counted, bench.drive, { ...options(bench), onStep })
    const all = (await collect(plan.pieces())).length
    expect(before).toBe(pieces)
    expect(read).toBeLessThanOrEqual(all - pieces + 64)
  })

  it('keeps what it knows of lost sectors', async () => {
    const pieces = await collect(plan.pieces())
    const bad = pieces[Math.floor(pieces.length / 3)]
    const faulty = new FaultyDevice(source, [{ firstLba: bad.sourceOffset / 512 + 3, count: 2 }])
    const survey = await surveyDrive(source, sha256)
    const fit = solveFit(survey, { sizeBytes: SIZE, logicalSectorSize: 512 })
    if (!fit.fits) throw new Error('it fits')
    const failing = await planCopy(readOnly(faulty), fit.layout)
    const target = new MemoryDevice(SIZE)
    const bench = new CutBench(target, Math.random, Math.floor(operations * 0.8))
    await expect(runCopy(failing, bench.drive, options(bench))).rejects.toBeInstanceOf(Cut)
    expect(bench.state!.lost.length + bench.state!.later.size).toBeGreaterThan(0)
    bench.again(Infinity)
    const outcome = await runCopy(failing, bench.drive, options(bench))
    expect(outcome.lost.reduce((sum, run) => sum + run.sectors, 0)).toBe(2)
  })

  it('does not go on when what it was made from has changed, or on a drive without its mark', async () => {
    const target = new MemoryDevice(SIZE)
    const bench = new CutBench(target, Math.random, Math.floor(operations / 2))
    await expect(runCopy(plan, bench.drive, options(bench))).rejects.toBeInstanceOf(Cut)
    bench.again(Infinity)
    await expect(runCopy(plan, bench.drive, { ...options(bench), work: 'another' })).rejects.toBeInstanceOf(
      NotItsTarget,
    )
    // A journal that does not name a division counts the pieces of another one.
    const earlier = { ...options(bench), from: { ...bench.state!, division: 1 } }
    await expect(runCopy(plan, bench.drive, earlier)).rejects.toThrow(/another version/)
    const other = new MemoryDevice(SIZE)
    await other.write(0, pattern(512, 1))
    await expect(runCopy(plan, other, options(bench))).rejects.toThrow(/does not carry the mark/)
    expect(await readBytes(other, 0, 512)).toEqual(pattern(512, 1))
  })
})

describe('the journal', () => {
  const records = [
    { did: 'begin' as const, job: 'j', work: 'w', verify: true },
    { did: 'erase' as const, blank: true },
    { did: 'copy' as const, pieces: 0, digests: '', later: [], written: 0 },
    { did: 'copy all' as const },
  ]
  const text = records.map(journalLine).join('')

  it('is believed up to the first line that is cut or damaged, wherever it is cut or damaged', () => {
    fc.assert(
      fc.property(fc.nat({ max: text.length - 1 }), fc.integer({ min: 1, max: 120 }), (at, by) => {
        const cut = journalRecords(text.slice(0, at))
        expect(cut).toEqual(records.slice(0, cut.length))
        const changed = text.slice(0, at) + String.fromCharCode((text.charCodeAt(at) + by) % 128) + text.slice(at + 1)
        const found = journalRecords(changed)
        expect(found).toEqual(records.slice(0, found.length))
        expect(found.length).toBeLessThan(records.length)
      }),
    )
    expect(journalRecords(text)).toEqual(records)
  })

  it('that does not hold together is refused with a sentence', () => {
    expect(stateOf([])).toBeUndefined()
    expect(stateOf(records)!.division).toBe(1)
    expect(() => stateOf([records[1]])).toThrow(/does not begin with its beginning/)
    expect(() => stateOf([records[0], records[0]])).toThrow(/two copies/)
    expect(() => stateOf([records[0], { did: 'copy', pieces: 4, digests: '', later: [], written: 0 }])).toThrow(
      /lacks the digests/,
    )
  })
})
