import { describe, expect, it } from 'vitest'
import { LINKS } from '../things/links'
import { drive } from '../things/testing'
import { driveEnd, formatRange, legRange, legSeconds, legTiming } from './timing'

const GB = 1e9
const inside = (rates: Parameters<typeof drive>[1] = {}) =>
  driveEnd(drive('old', rates), 'old', [{ name: 'desk, SATA 0', link: 'sata-6' }])
const outside = (link: 'usb-2' | 'usb-5' = 'usb-5') => driveEnd(drive('new'), 'new', [{ name: 'dock, bay 1', link }])

describe('a transfer', () => {
  it('takes as long as its slowest part, there and back, and names that part', () => {
    const timing = legTiming(inside(), outside())
    expect(timing.copyBytesPerSecond).toBe(LINKS['usb-5'].bytesPerSecond)
    expect(timing.limitedBy).toBe('dock, bay 1, USB 5 Gb/s')
    const { lowSeconds, highSeconds } = legRange(timing, 200 * GB, undefined, false)
    expect(lowSeconds).toBeCloseTo((2 * 200 * GB) / 410e6, 5)
    expect(highSeconds).toBeCloseTo(1.25 * lowSeconds, 5)
  })

  it.each([
    ['reading the old', legTiming(inside({ readBytesPerSecond: 90e6 }), outside()), 90e6],
    ['dock, bay 1, USB 2', legTiming(inside(), outside('usb-2')), 38e6],
    ['writing the old', legTiming(inside(), inside({ writeBytesPerSecond: 300e6 })), 300e6],
    [
      'the network, 1 Gb Ethernet',
      legTiming({ ...inside(), links: [...inside().links, { name: 'the network', link: 'ethernet-1' }] }, outside()),
      112e6,
    ],
  ] as const)('is limited by %s', (name, timing, rate) => {
    expect([timing.limitedBy, timing.copyBytesPerSecond]).toEqual([name, rate])
  })

  it('counts what requests cost', () => {
    const timing = legTiming(inside({ requestSeconds: 0.01 }), outside())
    const { copy } = legSeconds(timing, 40 * 1024 * 1024)
    expect(copy).toBeCloseTo((40 * 1024 * 1024) / 410e6 + 10 * 0.01, 6)
  })

  it('reads a failing source twice, which only the long end holds', () => {
    const timing = legTiming(inside(), outside())
    const sound = legRange(timing, GB, undefined, false)
    const failing = legRange(timing, GB, undefined, true)
    expect(failing.lowSeconds).toBe(sound.lowSeconds)
    expect(failing.highSeconds).toBeCloseTo(1.5 * sound.highSeconds, 6)
  })

  it('takes longer when earlier copies over these links did', () => {
    const timing = legTiming(inside(), outside())
    const known = legRange(timing, GB, { copies: 2, share: 0.8 }, false)
    expect(known.lowSeconds).toBeCloseTo(legRange(timing, GB, undefined, false).lowSeconds / 0.8, 6)
  })
})

describe('times', () => {
  it('are said as ranges that hold both ends', () => {
    expect([formatRange(1057, 1322), formatRange(40, 50), formatRange(9000, 11000)]).toEqual([
      '17 – 23 min',
      '40 – 50 s',
      '2.5 – 3.1 h',
    ])
  })
})
