import { describe, expect, it } from 'vitest'
import { SimulatedSurroundings } from './simulated'

describe('a copy in the simulated world', () => {
  it('waits by the pace of the clock, and not at all as fast as it goes', async () => {
    const timed = async (pace: '1' | '30' | 'max', seconds: number) => {
      const start = performance.now()
      await new SimulatedSurroundings(pace).pass(seconds, 'copy', () => {})
      return performance.now() - start
    }
    // The waits differ by so much that no busy machine turns them round.
    expect(await timed('30', 9)).toBeGreaterThanOrEqual(290)
    expect(await timed('1', 0.4)).toBeGreaterThanOrEqual(390)
    expect(await timed('max', 3600)).toBeLessThan(60_000)
  })
})
