import { describe, expect, it } from 'vitest'
import { CopyProgressSchema } from '@/core/copy/progress'
import { CopyMeter } from './meter'

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

  it('says what is left within 15 % from a third of the way on, and settles within ten seconds', () => {
    // A drive that becomes slower to its end, as a disk does, and stumbles over trouble.
    const meter = new CopyMeter(timing, { totalBytes: 60_000 * MB, titles: new Map() })
    const left: { at: number; says: number }[] = []
    for (let i = 0; i < 6000; i++) {
      meter.add({ phase: 'copy', bytes: 10 * MB, piece: piece(i) })
      meter.wait((0.03 * i) / 6000)
      if (i % 400 === 399) meter.wait(3)
      left.push({ at: meter.report().seconds, says: meter.report().secondsLeft })
    }
    for (let i = 0; i < 6000; i++) {
      meter.add({ phase: 'check', bytes: 10 * MB, piece: piece(i) })
      left.push({ at: meter.report().seconds, says: meter.report().secondsLeft })
    }
    const end = left.at(-1)!.at
    for (const { at, says } of left) {
      // Up to the last seconds, where a request more or less is all that is left.
      if (at > end / 3 && end - at > 10) expect(Math.abs(at + says - end) / (end - at)).toBeLessThan(0.15)
    }
    for (let i = 1; i < left.length; i++) {
      const jump = Math.abs(left[i].at + left[i].says - left[i - 1].at - left[i - 1].says)
      if (left[i - 1].at > 10) expect(jump / end).toBeLessThan(0.05)
    }
  })

  it('of a copy that was cut off goes on from what was seen, without counting it twice', () => {
    const options = { totalBytes: 1000 * MB, titles: new Map([[3, 'Harbour (C:)']]) }
    const first = new CopyMeter(timing, options)
    for (let i = 0; i < 40; i++) first.add({ phase: 'copy', bytes: 10 * MB, piece: piece(i) })
    first.mark('paused', 'paused')
    const before = first.report()
    const again = new CopyMeter(timing, { ...options, before })
    // What is left is told by the speed of before, while nothing of it is sure again yet.
    expect(again.report().secondsLeft).toBeLessThan(before.secondsLeft * 2)
    again.mark('cut', 'cut off, and gone on')
    for (let i = 0; i < 38; i++) {
      expect(again.add({ phase: 'copy', bytes: 10 * MB, piece: piece(i), before: true })).toBe(0)
    }
    expect(again.report()).toMatchObject({ seconds: before.seconds, copiedBytes: 380 * MB })
    for (let i = 38; i < 100; i++) again.add({ phase: 'copy', bytes: 10 * MB, piece: piece(i) })
    const { events, samples, copySeconds, partSeconds } = again.report()
    expect(events.map((e) => e.kind)).toEqual(['paused', 'cut'])
    expect(samples.every((s, i) => i === 0 || s.second > samples[i - 1].second)).toBe(true)
    expect(copySeconds).toBeCloseTo(before.copySeconds + 62 * 0.101, 5)
    expect(partSeconds[3]).toBeCloseTo(copySeconds, 5)
    // Nothing was seen before the server was killed: what is sure then counts as it would have taken.
    const blind = new CopyMeter(timing, { ...options, before: null })
    for (let i = 0; i < 50; i++) blind.add({ phase: 'copy', bytes: 10 * MB, piece: piece(i), before: true })
    expect(blind.report().meanBytesPerSecond).toBeCloseTo(before.meanBytesPerSecond, 0)
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

it('takes the seconds that a step really took, where those are known', () => {
  const meter = new CopyMeter(timing, { totalBytes: 100 * MB, titles: new Map() })
  expect(meter.add({ phase: 'copy', bytes: 50 * MB, piece: piece(0) }, () => 4)).toBe(4)
  expect(meter.report().copySeconds).toBe(4)
  expect(meter.report().secondsLeft).toBeCloseTo(4 + 0.5, 5)
})
