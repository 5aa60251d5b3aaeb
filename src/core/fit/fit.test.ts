import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { GIB, MIB } from '../bytes/size'
import { usableRange } from '../scheme/gpt'
import type { PartitionSurvey } from '../survey/types'
import { defaultWish, solveFit } from './solve'
import { surveyWith } from './testing'
import { fitSizes, type FitWish, LayoutSchema, type SizeRule } from './types'
import { capacityOf } from '../things/capacity'
import { runsOf } from '../testing'

const TICKET_DESK = surveyWith(
  [
    { role: 'boot', sectors: 100 * 2048 },
    { role: 'reserved', sectors: 16 * 2048 },
    { role: 'system', sectors: 467_529_728 - 239_616, used: 201 * GIB },
    { role: 'recovery', sectors: 650 * 2048 },
  ],
  capacityOf(240),
)

const NOTHING: FitWish = { rules: {}, sizes: {}, reserve: 0 }

describe('the default fit', () => {
  it('grows the system volume and moves the recovery partition behind it to the end', () => {
    const result = solveFit(TICKET_DESK, { sizeBytes: capacityOf(960), logicalSectorSize: 512 })
    expect(result.fits).toBe(true)
    if (!result.fits) return
    expect(LayoutSchema.parse(result.layout)).toEqual(result.layout)
    expect(result.layout.partitions.map((p) => [p.number, p.firstLba, p.lastLba, p.rule])).toEqual([
      [1, 2048, 206_847, 'keep'],
      [2, 206_848, 239_615, 'keep'],
      [3, 239_616, 1_874_053_119, 'fill'],
      [4, 1_874_053_120, 1_875_384_319, 'keep'],
    ])
    expect(result.headline).toBe('It fits, with 670 GiB to spare')
    expect(result.reason).toMatch(/grows from 222\.8 GiB to 893\.5 GiB\. recovery moves to the end/)
  })

  it('says by how much a smaller target misses', () => {
    const result = solveFit(TICKET_DESK, { sizeBytes: capacityOf(128), logicalSectorSize: 512 })
    expect(result.fits).toBe(false)
    if (result.fits) return
    const missing = result.obstacles[0].missingBytes!
    expect(result.obstacles[0].code).toBe('too-small')
    // With exactly what is missing added, rounded up to the grid, it fits.
    const enough = { sizeBytes: capacityOf(128) + Math.ceil(missing / MIB + 1) * MIB, logicalSectorSize: 512 }
    expect(solveFit(TICKET_DESK, enough).fits).toBe(true)
  })

  it('refuses another sector size', () => {
    const result = solveFit(TICKET_DESK, { sizeBytes: capacityOf(960), logicalSectorSize: 4096 })
    expect(!result.fits && result.obstacles[0].code).toBe('sector-size')
  })

  it('puts no start beside a grid that was asked for', () => {
    const survey = surveyWith([{ role: 'system', sectors: 4096 }], 8 * MIB)
    const onto = (sizeBytes: number, wish: FitWish) => solveFit(survey, { sizeBytes, logicalSectorSize: 512 }, wish)
    const asked = { ...NOTHING, alignBytes: 8 * MIB }
    // It has room where it is, and none on that grid.
    expect([onto(4 * MIB, NOTHING).fits, onto(4 * MIB, asked).fits, onto(16 * MIB, asked).fits]).toEqual([
      true,
      false,
      true,
    ])
  })

  it('leaves the rest unallocated when every partition keeps its size', () => {
    const result = solveFit(TICKET_DESK, { sizeBytes: capacityOf(960), logicalSectorSize: 512 }, NOTHING)
    expect(result.fits && result.layout.gaps).toHaveLength(1)
    expect(result.fits && result.layout.partitions.every((p) => p.firstLba === p.sourceFirstLba)).toBe(true)
  })
})

describe('a fit by other rules', () => {
  const target = { sizeBytes: capacityOf(960), logicalSectorSize: 512 }
  const solved = (wish: Partial<FitWish>, survey = TICKET_DESK) => {
    const result = solveFit(survey, target, { ...NOTHING, ...wish })
    if (!result.fits) throw new Error(result.obstacles[0].sentence)
    return result.layout
  }

  it('leaves no hole where a partition was that comes earlier now', () => {
    const order = [1, 2, 4, 3]
    const filled = solved({ rules: { '3': 'fill' }, order })
    expect(filled.gaps).toEqual([])
    const kept = solved({ order })
    expect(kept.partitions.map((p) => p.sourceNumber)).toEqual(order)
    // What stays free is one piece, behind them.
    expect(kept.gaps.map((g) => g.firstLba)).toEqual([kept.partitions[3].lastLba + 1])
    // What is in front of the change keeps its place.
    expect(kept.partitions.slice(0, 2).every((p) => p.firstLba === p.sourceFirstLba)).toBe(true)
  })

  it('gives a set size, on the grid, and leaves the rest', () => {
    const layout = solved({ rules: { '3': 'set' }, sizes: { '3': 400 * GIB + 5 } })
    expect(fitSizes(layout.partitions[2], layout).after).toBe(400 * GIB + MIB)
    expect(layout.gaps).toHaveLength(1)
  })

  it('refuses a set size below what the volume has now', () => {
    const result = solveFit(TICKET_DESK, target, { ...NOTHING, rules: { '3': 'set' }, sizes: { '3': 100 * GIB } })
    expect(!result.fits && result.obstacles[0].code).toBe('below-least')
  })

  it('grows by share as the drive has grown', () => {
    const survey = surveyWith(
      [
        { role: 'system', sectors: 100 * 2048 * 1024 },
        { role: 'data', sectors: 50 * 2048 * 1024 },
      ],
      capacityOf(240),
    )
    const layout = solved({ rules: { '1': 'share', '2': 'share' } }, survey)
    const [system, data] = layout.partitions.map((p) => fitSizes(p, layout))
    expect(system.after / system.before).toBeCloseTo(target.sizeBytes / survey.sizeBytes, 2)
    expect(data.after / data.before).toBeCloseTo(target.sizeBytes / survey.sizeBytes, 2)
  })

  it('leaves a reserve at the end of the drive', () => {
    const layout = solved({ ...defaultWish(TICKET_DESK), reserve: 0.1 })
    const gap = layout.gaps.at(-1)!
    expect(gap.sizeBytes / target.sizeBytes).toBeCloseTo(0.1, 3)
    expect(gap.firstLba).toBeGreaterThan(layout.partitions.at(-1)!.lastLba)
  })
})

describe('any fit', () => {
  const role = fc.constantFrom('boot', 'system', 'data', 'recovery', 'reserved') as fc.Arbitrary<
    PartitionSurvey['role']
  >
  const part = fc.record({ role, sectors: fc.integer({ min: 1, max: 4_000_000 }), gap: fc.nat({ max: 50 }) })
  const rule = fc.constantFrom('keep', 'fill', 'share', 'set') as fc.Arbitrary<SizeRule>
  const disk = fc.array(part, { minLength: 1, maxLength: 12 })

  it('keeps order, grid, table sectors and sizes, and never overlaps', () => {
    fc.assert(
      fc.property(
        disk,
        fc.integer({ min: 1, max: 60 * 1024 }),
        fc.array(rule, { maxLength: 12 }),
        fc.double({ min: 0, max: 0.5, noNaN: true }),
        (parts, mib, given, reserve) => {
          const survey = surveyWith(parts, 100 * GIB)
          const wish: FitWish = {
            rules: Object.fromEntries(given.map((r, i) => [i + 1, r] as const)),
            sizes: Object.fromEntries(parts.map((p, i) => [i + 1, p.sectors * 512 * (1 + (i % 3) / 4)] as const)),
            reserve,
          }
          const target = { sizeBytes: mib * MIB, logicalSectorSize: 512 }
          const result = solveFit(survey, target, wish)
          expect(solveFit(survey, target, wish)).toEqual(result)
          if (!result.fits) {
            expect(result.obstacles[0].missingBytes).toBeGreaterThan(0)
            return
          }
          const usable = usableRange(target.sizeBytes, 512)
          let previous = usable.firstLba - 1
          for (const p of result.layout.partitions) {
            const { before, after } = fitSizes(p, result.layout)
            expect(p.firstLba).toBeGreaterThan(previous)
            expect(p.firstLba % 2048).toBe(0)
            expect(after).toBeGreaterThanOrEqual(before)
            if (p.rule === 'keep') expect(after).toBe(before)
            previous = p.lastLba
          }
          expect(previous).toBeLessThanOrEqual(usable.lastLba - Math.floor(usable.lastLba * reserve))
          // What fits stays possible on a larger target.
          expect(solveFit(survey, { ...target, sizeBytes: target.sizeBytes + 512 * MIB }, wish).fits).toBe(true)
        },
      ),
      { numRuns: runsOf(600, 20000) },
    )
  })

  it('with the default rules leaves at most 1 MiB and the alignment unused', () => {
    fc.assert(
      fc.property(disk, (parts) => {
        const survey = surveyWith([...parts, { role: 'system', sectors: 2048 }], 100 * GIB)
        const result = solveFit(survey, { sizeBytes: 200 * GIB, logicalSectorSize: 512 }, defaultWish(survey))
        expect(result.fits && result.layout.gaps.filter((gap) => gap.sizeBytes > 52 * MIB)).toEqual([])
      }),
    )
  })
})
