import { ReadOnlyDevice } from '../block/device'
import { describe, expect, it } from 'vitest'
import { FaultyDevice } from '../block/faulty'
import { MemoryDevice } from '../block/memory'
import { TimedDevice } from '../block/timed'
import { MIB } from '../bytes/size'
import { type Brief, BriefSchema, whyNotTaken } from './brief'
import { measureSpeed, SpeedSchema } from './speed'

const cost = { readBytesPerSecond: 100e6, requestSeconds: 0.01, retrySeconds: 2 }

describe('the speed of a drive', () => {
  it('is what its model gives: its rate less what requests cost', async () => {
    const speed = await measureSpeed(new TimedDevice(new MemoryDevice(256 * MIB), cost), 'here')
    const piece = 4 * MIB
    expect(speed.sequentialBytesPerSecond).toBeCloseTo(piece / (piece / 100e6 + 0.01), -3)
    expect(speed.randomReadsPerSecond).toBeCloseTo(1 / (4096 / 100e6 + 0.01), 3)
    expect([speed.failedReads, speed.over]).toEqual([0, 'here'])
    expect(SpeedSchema.parse(speed)).toEqual(speed)
  })

  it('is the same when it is measured again', async () => {
    const device = new MemoryDevice(64 * MIB)
    expect(await measureSpeed(new TimedDevice(device, cost), '')).toEqual(
      await measureSpeed(new TimedDevice(device, cost), ''),
    )
  })

  it('counts reads that fail, and what they cost', async () => {
    const faulty = new FaultyDevice(new MemoryDevice(256 * MIB), [{ firstLba: 0, count: 16 * 2048 }])
    const failing = await measureSpeed(new TimedDevice(faulty, cost), '')
    const sound = await measureSpeed(new TimedDevice(new MemoryDevice(256 * MIB), cost), '')
    expect(failing.failedReads).toBeGreaterThan(3)
    expect(failing.sequentialBytesPerSecond).toBeLessThan(sound.sequentialBytesPerSecond / 2)
  })

  it('of a tiny drive is measured too', async () => {
    const speed = await measureSpeed(new TimedDevice(new MemoryDevice(MIB), cost), '')
    expect(speed.sequentialBytesPerSecond).toBeGreaterThan(0)
  })

  it('is never measured by writing', async () => {
    const device = new TimedDevice(new MemoryDevice(MIB), cost)
    await expect(device.write()).rejects.toBeInstanceOf(ReadOnlyDevice)
    await device.flush()
    expect(device.seconds).toBe(0)
  })
})

describe('a brief', () => {
  const brief: Brief = {
    name: 'Desk',
    customer: 'Somebody',
    reason: 'more room',
    computerId: 'desk',
    pairs: [{ sourceId: 'old', targetId: 'new' }],
    toVirtualMachine: false,
    targetComputerId: null,
    images: [],
    backup: { where: 'on a shelf', date: '2026-05-02' },
    promised: '2026-05-04T13:00',
  }

  it('is taken as it is', () => {
    expect(BriefSchema.parse(brief)).toEqual(brief)
    expect(whyNotTaken(brief)).toBeUndefined()
  })

  it.each<[string, Partial<Brief>, RegExp]>([
    ['one drive twice', { pairs: [brief.pairs[0], { sourceId: 'old', targetId: 'x' }] }, /source twice/],
    ['one target twice', { pairs: [brief.pairs[0], { sourceId: 'other', targetId: 'new' }] }, /same target/],
    ['a drive onto itself', { pairs: [{ sourceId: 'old', targetId: 'old' }] }, /both a source and a target/],
    ['a drive without target', { pairs: [{ sourceId: 'old', targetId: null }] }, /needs a target/],
    ['a virtual machine onto a drive', { toVirtualMachine: true }, /virtual disks, not drives/],
  ])('with %s contradicts itself', (_what, changes, sentence) => {
    expect(whyNotTaken({ ...brief, ...changes })).toMatch(sentence)
  })

  it.each([
    ['no name', { name: ' ' }],
    ['no drive', { pairs: [] }],
    ['a day that is none', { backup: { where: 'x', date: '2026-02-31' } }],
    ['a time that is none', { promised: 'tomorrow' }],
    ['an unknown reason', { reason: 'fun' }],
  ])('with %s is refused', (_what, changes) => {
    expect(BriefSchema.safeParse({ ...brief, ...changes }).success).toBe(false)
  })
})
