import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { CoreError } from '../../errors'
import { ClusterAllocator } from './allocator'

describe('the allocator', () => {
  it('gives no cluster twice, and as many as were asked for', () => {
    const request = fc.record({
      count: fc.integer({ min: 1, max: 300 }),
      fragments: fc.integer({ min: 1, max: 9 }),
      gap: fc.nat({ max: 50 }),
    })
    fc.assert(
      fc.property(fc.array(request, { maxLength: 20 }), fc.nat({ max: 9000 }), (requests, fixed) => {
        const space = new ClusterAllocator(20_000)
        const given = new Set<number>()
        const take = ({ lcn, length }: { lcn: number | null; length: number }) => {
          for (let i = 0; i < length; i++) {
            expect(given.has(lcn! + i)).toBe(false)
            given.add(lcn! + i)
          }
        }
        take(space.takeAt(fixed, 10))
        for (const { count, fragments, gap } of requests) {
          const runs = space.scatter(count, fragments, gap)
          expect(runs.reduce((sum, run) => sum + run.length, 0)).toBe(count)
          runs.forEach(take)
        }
      }),
    )
  })

  it('says when nothing is left', () => {
    const space = new ClusterAllocator(100)
    space.take(100)
    expect(() => space.take(1)).toThrow(CoreError)
    expect(() => space.takeAt(95, 10)).toThrow(CoreError)
  })
})
