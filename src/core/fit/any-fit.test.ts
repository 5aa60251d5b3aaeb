import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { GIB, MIB } from '../bytes/size'
import { usableRange } from '../scheme/gpt'
import type { DriveSurvey } from '../survey/types'
import { limitsOf } from './limits'
import { movedPartitions } from './ends'
import { solveFit } from './solve'
import { type MadePart, surveyWith } from './testing'
import { fitSizes, type FitWish, type Layout, LayoutSchema, type SizeRule } from './types'
import { runsOf } from '../testing'

const role = fc.constantFrom<MadePart['role'][]>('boot', 'system', 'data', 'recovery', 'reserved')
const rule = fc.constantFrom<SizeRule[]>('keep', 'fill', 'share', 'set', 'least')

/** Volumes that can be made smaller or not, only grow, have an end, are open or of no known kind. */
const made = fc
  .record({
    role,
    sectors: fc.integer({ min: 8, max: 4_000_000 }),
    gap: fc.nat({ max: 50 }),
    used: fc.double({ min: 0, max: 1, noNaN: true }),
    kind: fc.constantFrom('both', 'both', 'grows', 'ends', 'still', 'dirty', 'none'),
  })
  .map(({ kind, used, ...part }): MadePart => {
    const bytes = part.sectors * 512
    const least = Math.max(4096, Math.floor(bytes * used))
    if (kind === 'none') return { ...part, volume: null }
    return {
      ...part,
      volume: {
        usedBytes: Math.floor(bytes * used),
        canGrow: kind !== 'still',
        canShrink: kind === 'both' || kind === 'dirty',
        shrunkBytes: least,
        state: kind === 'dirty' ? 'dirty' : 'clean',
        ...(kind === 'ends' ? { mostBytes: bytes * 2 } : {}),
        totalBytes: kind === 'still' ? Math.floor((bytes * (1 + used)) / 2 / 512) * 512 : bytes,
      },
    }
  })

const gptDisk = fc.array(made, { minLength: 1, maxLength: 14 }).map((parts) => surveyWith(parts, 200 * GIB))
const mbrDisk = fc
  .tuple(fc.array(made, { minLength: 0, maxLength: 3 }), fc.array(made, { minLength: 1, maxLength: 5 }))
  .map(([primary, logical]) => {
    const kind = (list: MadePart[], of: 'primary' | 'logical') =>
      list.map((p) => ({ ...p, mbr: { type: 7, kind: of } }))
    return surveyWith([...kind(primary, 'primary'), ...kind(logical, 'logical')], 200 * GIB, 'mbr')
  })

function wishes(survey: DriveSurvey): fc.Arbitrary<FitWish> {
  const numbers = survey.partitions.map((p) => p.number)
  return fc
    .record({
      rules: fc.array(rule, { minLength: numbers.length, maxLength: numbers.length }),
      factors: fc.array(fc.double({ min: 0.2, max: 2, noNaN: true }), {
        minLength: numbers.length,
        maxLength: numbers.length,
      }),
      reserve: fc.oneof(fc.constant(0), fc.double({ min: 0, max: 0.5, noNaN: true })),
      order: fc.option(fc.shuffledSubarray(numbers), { nil: undefined }),
      leaveOut: fc.option(fc.subarray(numbers, { maxLength: Math.min(2, numbers.length) }), { nil: undefined }),
      alignBytes: fc.option(fc.constantFrom(4096, 64 * 1024, MIB, 8 * MIB), { nil: undefined }),
      scheme: fc.constantFrom(undefined, undefined, 'gpt' as const, 'mbr' as const),
      identity: fc.option(
        fc.record({ of: fc.constantFrom('disk' as const, 'all' as const), seed: fc.uuid({ version: 4 }) }),
        { nil: undefined },
      ),
      renumber: fc.option(fc.boolean(), { nil: undefined }),
    })
    .map(({ rules, factors, ...wish }) => ({
      ...wish,
      rules: Object.fromEntries(numbers.map((n, i) => [n, rules[i]] as const)),
      sizes: Object.fromEntries(
        survey.partitions.map((p, i) => [p.number, Math.ceil(p.sizeBytes * factors[i])] as const),
      ),
    }))
}

const asked = fc
  .oneof({ weight: 2, arbitrary: gptDisk }, { weight: 1, arbitrary: mbrDisk })
  .chain((survey) => fc.tuple(fc.constant(survey), wishes(survey), fc.integer({ min: 2, max: 80 * 1024 })))

function expectSound(survey: DriveSurvey, layout: Layout, wish: FitWish): void {
  const { sectorSize, partitions, targetSizeBytes, extended, scheme } = layout
  const unit = (wish.alignBytes ?? MIB) / sectorSize
  const total = Math.floor(targetSizeBytes / sectorSize)
  const usable =
    scheme === 'gpt' ? usableRange(targetSizeBytes, sectorSize) : { firstLba: 1, lastLba: Math.min(total, 2 ** 32) - 1 }
  let previous = usable.firstLba - 1
  for (const p of partitions) {
    const source = survey.partitions.find((s) => s.number === p.sourceNumber)!
    const { before, after } = fitSizes(p, layout)
    // No overlap, inside what the table leaves, on the grid; a record in front of each logical partition.
    const front = p.mbr?.kind === 'logical' ? p.mbr.recordLba : p.firstLba
    expect(front).toBeGreaterThan(previous)
    expect(p.firstLba).toBeGreaterThanOrEqual(front)
    expect(p.firstLba % unit).toBe(0)
    if (p.mbr?.kind === 'logical') expect(front).toBeLessThan(p.firstLba)
    previous = p.lastLba
    // Every volume has at least its least size, and its rule is kept.
    const limits = limitsOf(source)
    expect(after).toBeGreaterThanOrEqual(Math.min(before, limits.least))
    if (p.rule === 'keep') expect(after).toBe(before)
    if (limits.notNow) expect(after).toBe(before)
    if (p.rule === 'set') expect(Math.abs(after - wish.sizes[p.sourceNumber])).toBeLessThan(unit * sectorSize)
    if (p.rule === 'least') expect(after).toBeLessThanOrEqual(before)
    if (after > before && p.mostBytes !== undefined) expect(after).toBeLessThanOrEqual(p.mostBytes + unit * sectorSize)
    if (p.resizes) expect(after).not.toBe(before)
    const entry = { ...p, guid: source.guid, typeGuid: source.typeGuid, attributes: source.attributes }
    if (!wish.identity && scheme === survey.scheme && scheme === 'gpt') expect(p).toEqual(entry)
  }
  expect(previous).toBeLessThanOrEqual(usable.lastLba - Math.floor(usable.lastLba * wish.reserve * 0.999))
  // Every partition that was not left out is there once, under a number of its own.
  const kept = movedPartitions(survey).filter((p) => !(wish.leaveOut ?? []).includes(p.number))
  expect(partitions.map((p) => p.sourceNumber).sort()).toEqual(kept.map((p) => p.number).sort())
  expect(new Set(partitions.map((p) => p.number)).size).toBe(partitions.length)
  const place = (number: number) => {
    const at = wish.order?.indexOf(number) ?? -1
    return at < 0 ? 1000 + kept.findIndex((p) => p.number === number) : at
  }
  const places = partitions.map((p) => place(p.sourceNumber))
  expect(places).toEqual([...places].sort((a, b) => a - b))
  if (extended) {
    const logical = partitions.filter((p) => p.mbr?.kind === 'logical')
    expect([extended.firstLba, extended.lastLba]).toEqual([logical[0].mbr!.recordLba, logical.at(-1)!.lastLba])
    expect(partitions.some((p) => p.number === extended.number)).toBe(false)
  }
}

describe('any fit of any disk', () => {
  it('is sound, the same each time, and stays possible on a larger target', () => {
    let fitted = 0
    fc.assert(
      fc.property(asked, ([survey, wish, mib]) => {
        const target = { sizeBytes: mib * MIB, logicalSectorSize: 512 }
        const result = solveFit(survey, target, wish)
        expect(solveFit(survey, target, wish)).toEqual(result)
        if (!result.fits) {
          expect(result.obstacles.length).toBeGreaterThan(0)
          for (const { sentence, mend } of result.obstacles) expect(sentence.length * mend.length).toBeGreaterThan(0)
          // What is offered instead works, and is sound.
          if (result.nearest) {
            const other = solveFit(survey, target, result.nearest.wish)
            expect(other.fits).toBe(true)
            if (other.fits) expectSound(survey, other.layout, result.nearest.wish)
          }
          return
        }
        fitted++
        expect(LayoutSchema.parse(result.layout)).toEqual(result.layout)
        expectSound(survey, result.layout, wish)
        const larger = solveFit(survey, { ...target, sizeBytes: target.sizeBytes + 512 * MIB }, wish)
        expect(larger.fits).toBe(true)
      }),
      { numRuns: runsOf(1200, 40000) },
    )
    // The disks and targets are such that both happen.
    expect(fitted).toBeGreaterThan(runsOf(120, 4000))
  })

  it('uses all of the target when a volume without an end takes what is left', () => {
    fc.assert(
      fc.property(gptDisk, fc.integer({ min: 60, max: 4000 }), (survey, gib) => {
        const wish: FitWish = { rules: { 1: 'fill' }, sizes: {}, reserve: 0 }
        const result = solveFit(survey, { sizeBytes: gib * GIB, logicalSectorSize: 512 }, wish)
        if (!result.fits || limitsOf(survey.partitions[0]).notNow || !survey.partitions[0].volume) return
        if (survey.partitions[0].volume.mostBytes) return
        // Between the parts nothing is left but what a place kept, or the grid, costs.
        const gaps = result.layout.gaps.reduce((sum, g) => sum + g.sizeBytes, 0)
        expect(gaps).toBeLessThanOrEqual((survey.partitions.length + 1) * MIB)
      }),
      { numRuns: 500 },
    )
  })
})
