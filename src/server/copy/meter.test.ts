import { describe, expect, it } from 'vitest'
import { CopyProgressSchema } from '@/core/copy/progress'
import { CopyMeter } from './meter'
import { Pacer } from './pacer'

const MB = 1e6
const timing = { copyBytesPerSecond: 100 * MB, checkBytesPerSecond: 200 * MB, requestSeconds: 0.001, limitedBy: '' }
const piece = (sourceOffset: number) => ({ offset: 0, length: 0, partition: 3, sourceOffset, zero: false })

describe('the meter', () => {
  it('counts modelled seconds and says what is left of both passes', () => {
    const meter = new CopyMeter(timing, { totalBytes: 1000 * MB, titles: new Map([[3, 'Harbour (C:)']]) })
    for (let i = 0; i < 50; i++) meter.add({ phase: 'copy', bytes: 10 * MB, piece: piece(i) })
    const half = meter.report()
    expect(CopyProgressSchema.parse(half)).toEqual(half)
    expect(half.copySeconds).toBeCloseTo(5.05, 5)
    expect(half.partition).toBe('Harbour (C:)')
    expect(half.sourceOffset).toBe(49)
    expect(half.secondsLeft).toBeCloseTo(5.05 + 5, 1)
    expect(half.meanBytesPerSecond).toBeCloseTo((500 * MB) / 5.05, 0)
    for (let i = 0; i < 50; i++) meter.add({ phase: 'copy', bytes: 10 * MB, piece: piece(i) })
    for (let i = 0; i < 100; i++) meter.add({ phase: 'check', bytes: 10 * MB, piece: piece(i) })
    expect(meter.report().secondsLeft).toBeCloseTo(0, 5)
    expect(meter.seconds.check).toBeCloseTo(5.1, 5)
  })

  it('keeps a bounded number of samples of a copy of any length', () => {
    const meter = new CopyMeter(timing, { totalBytes: 1e12, titles: new Map() })
    for (let i = 0; i < 60_000; i++) meter.add({ phase: 'copy', bytes: 4 * MB, piece: piece(i) })
    const { samples } = meter.report()
    expect(samples.length).toBeGreaterThan(100)
    expect(samples.length).toBeLessThanOrEqual(240)
    expect(samples.every((s, i) => i === 0 || s.second > samples[i - 1].second)).toBe(true)
  })
})

describe('the pacer', () => {
  it('waits by the pace of the clock, and not at all as fast as it goes', async () => {
    const timed = async (pace: '1' | '30' | 'max', seconds: number) => {
      const start = performance.now()
      await new Pacer(pace).spend(seconds)
      return performance.now() - start
    }
    // The waits differ by so much that no busy machine turns them round.
    expect(await timed('30', 9)).toBeGreaterThanOrEqual(290)
    expect(await timed('1', 0.4)).toBeGreaterThanOrEqual(390)
    expect(await timed('max', 3600)).toBeLessThan(60_000)
  })
})
