import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { type HullPart, LEGIBLE, placeParts, waterHeight } from './hull-geometry'

const part = (sizeBytes: number, usedBytes?: number): HullPart => ({
  key: String(sizeBytes),
  title: '',
  role: 'system',
  sizeBytes,
  usedBytes,
})

describe('a hull', () => {
  it('shows every part legibly and fills its height exactly', () => {
    fc.assert(
      fc.property(fc.array(fc.integer({ min: 1, max: 1e12 }), { minLength: 1, maxLength: 12 }), (sizes) => {
        const placed = placeParts(
          sizes.map((size) => part(size)),
          400,
          'legible',
        )
        for (const p of placed) expect(p.height).toBeGreaterThanOrEqual(LEGIBLE - 1e-9)
        expect(placed.reduce((sum, p) => sum + p.height, 0)).toBeCloseTo(400, 6)
        placed.slice(1).forEach((p, i) => expect(p.top).toBeCloseTo(placed[i].top + placed[i].height, 6))
      }),
    )
  })

  it('to scale is as the sizes are', () => {
    const [a, b] = placeParts([part(100), part(300)], 400, 'true')
    expect([a.height, b.height]).toEqual([100, 300])
  })

  it('has water as high as it is used', () => {
    const [p] = placeParts([part(100, 90)], 400, 'true')
    expect(waterHeight(p)).toBeCloseTo(360)
  })
})
