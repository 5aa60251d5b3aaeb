import { describe, expect, it } from 'vitest'
import { GIB } from '../bytes/size'
import { JsonFileError } from '../json-file'
import { readFitFile } from './fit-file'
import { rangeOf, withSize } from './range'
import { defaultWish, solveFit } from './solve'
import { SHRINKS, surveyWith } from './testing'
import { fitSizes } from './types'

const SURVEY = surveyWith(
  [
    { role: 'boot', sectors: 100 * 2048 },
    { role: 'system', sectors: 40 * 2048 * 1024, volume: SHRINKS(25 * GIB) },
    { role: 'data', sectors: 20 * 2048 * 1024, volume: SHRINKS(4 * GIB) },
    { role: 'reserved', sectors: 16 * 2048, volume: null },
  ],
  64 * GIB,
)
const TARGET = { sizeBytes: 100 * GIB, logicalSectorSize: 512 }

describe('a fit file', () => {
  const file = (wish: object) =>
    JSON.stringify({ format: 'imbarco fit', version: 1, source: { name: 'x', sizeBytes: 1, partitions: [] }, wish })

  it('gives back the wish that it was made of', () => {
    const wish = { ...withSize(defaultWish(SURVEY), 2, 50 * GIB), order: [3, 2], leaveOut: [4], alignBytes: 4096 }
    const result = solveFit(SURVEY, TARGET, wish)
    if (!result.fits) throw new Error(result.obstacles[0].sentence)
    const text = JSON.stringify({ ...JSON.parse(file(wish)), layout: result.layout })
    expect(readFitFile(text, SURVEY).wish).toEqual(wish)
  })

  it.each<[string, string, RegExp]>([
    ['is no JSON', '{', /Line 1, column \d+: /],
    ['is of another kind', '{"format":"imbarco bench"}', /\(format\)/],
    ['names a partition that is not there', file({ rules: { 9: 'fill' }, sizes: {}, reserve: 0 }), /no partition 9/],
    [
      'orders one that is not there',
      file({ rules: {}, sizes: {}, reserve: 0, order: [2, 8] }),
      /order\[1\].*partition 8/,
    ],
    ['has a rule that is none', file({ rules: { 2: 'huge' }, sizes: {}, reserve: 0 }), /wish\.rules\.2/],
    ['has a size that is none', file({ rules: {}, sizes: { 2: -5 }, reserve: 0 }), /wish\.sizes\.2/],
    ['sets without a size', file({ rules: { 2: 'set' }, sizes: {}, reserve: 0 }), /no size to be set to/],
    ['reserves too much', file({ rules: {}, sizes: {}, reserve: 0.9 }), /wish\.reserve/],
  ])('that %s is refused with the place', (_what, text, sentence) => {
    expect(() => readFitFile(text, SURVEY)).toThrow(JsonFileError)
    expect(() => readFitFile(text, SURVEY)).toThrow(sentence)
  })
})

describe('the range of a size', () => {
  it('reaches from the least to all that the others can give, and both ends fit', () => {
    const wish = defaultWish(SURVEY)
    const { least, most } = rangeOf(SURVEY, TARGET, wish, 3)!
    expect(least).toBe(4 * GIB)
    // Beside it stand the boot partition, the least of the system, and the one that is not known.
    expect(most).toBeGreaterThan(74 * GIB)
    for (const bytes of [least, most]) {
      const result = solveFit(SURVEY, TARGET, withSize(wish, 3, bytes))
      expect(result.fits).toBe(true)
      if (result.fits) expect(fitSizes(result.layout.partitions[2], result.layout).after).toBe(bytes)
    }
    expect(solveFit(SURVEY, TARGET, withSize(wish, 3, most + 64 * 2 ** 20)).fits).toBe(false)
  })

  it('is none where a size must stay', () => {
    expect(rangeOf(SURVEY, TARGET, defaultWish(SURVEY), 4)).toBeUndefined()
    expect(rangeOf(SURVEY, TARGET, defaultWish(SURVEY), 77)).toBeUndefined()
    expect(rangeOf(SURVEY, { ...TARGET, sizeBytes: GIB }, defaultWish(SURVEY), 3)).toBeUndefined()
  })
})
