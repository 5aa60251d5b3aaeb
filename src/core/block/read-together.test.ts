import fc from 'fast-check'
import { setTimeout as pause } from 'node:timers/promises'
import { describe, expect, it } from 'vitest'
import { pattern, runsOf } from '../testing'
import { MIB } from '../bytes/size'
import { UnreadableSectors } from './device'
import { FaultyDevice } from './faulty'
import { MemoryDevice } from './memory'
import { leaveWindow, ReadTogether, windowFor } from './read-together'

const PIECES = 160
const SIZE = PIECES * MIB

/** A source of which is counted what is read. */
class Counted extends MemoryDevice {
  reads = 0
  slowMs = 0

  override async read(offset: number, into: Uint8Array): Promise<void> {
    this.reads++
    if (this.slowMs > 0) await pause(this.slowMs)
    await super.read(offset, into)
  }
}

async function source() {
  const device = new Counted(SIZE)
  for (let i = 0; i < PIECES; i += 7) await device.write(i * MIB, pattern(4096, 1 + (i % 250)))
  return device
}

/** Longer than a test may take. */
const FOREVER = 10 * 60_000

const ORDER = Array.from({ length: PIECES }, (_, i) => i)

/** Reads pieces in an order, and holds each against the source. */
async function readAll(
  device: ReadTogether,
  own: MemoryDevice,
  order: readonly number[],
  each?: (i: number) => unknown,
) {
  const [into, wanted] = [new Uint8Array(MIB), new Uint8Array(MIB)]
  for (const i of order) {
    await device.read(i * MIB, into)
    await own.read(i * MIB, wanted)
    expect(Buffer.compare(into, wanted)).toBe(0)
    await each?.(i)
  }
  device.leave()
}

describe('several that read one source', () => {
  it.each([2, 5])('read each piece once, %i of them', async (count) => {
    const device = await source()
    const own = await source()
    const window = windowFor(count)
    const members = Array.from({ length: count }, (_, i) => new ReadTogether(device, window, i))
    await Promise.all(members.map((m, i) => readAll(m, own, ORDER, () => (i === 1 ? pause(1) : undefined))))
    expect(device.reads).toBe(PIECES)
    expect(members.reduce((sum, m) => sum + m.ownBytes, 0)).toBe(SIZE)
    expect(members.reduce((sum, m) => sum + m.sharedBytes, 0)).toBe((count - 1) * SIZE)
  })

  it('wait for nobody who has left, or does not come', async () => {
    const device = await source()
    const own = await source()
    const window = windowFor(4)
    const [a, b, c] = [0, 1, 2].map((i) => new ReadTogether(device, window, i, FOREVER))
    leaveWindow(window, 3)
    await Promise.all([readAll(a, own, ORDER), readAll(b, own, ORDER), readAll(c, own, ORDER.slice(0, 20))])
    expect(device.reads).toBe(PIECES)
  })

  it('leave one behind that falls silent, which reads for itself then', async () => {
    const device = await source()
    const own = await source()
    const window = windowFor(2)
    const [quick, slow] = [0, 1].map((i) => new ReadTogether(device, window, i, 50))
    let goOn = () => {}
    const silence = new Promise<void>((done) => (goOn = done))
    await Promise.all([
      readAll(quick, own, ORDER).then(goOn),
      readAll(slow, own, ORDER, (i) => (i === 10 ? silence : undefined)),
    ])
    expect(quick.ownBytes + quick.sharedBytes).toBe(SIZE)
    expect(device.reads).toBeGreaterThan(PIECES)
    expect(device.reads).toBeLessThan(2 * PIECES)
  })

  it('meet the trouble of the source each by itself', async () => {
    const window = windowFor(2)
    const bad = new FaultyDevice(await source(), [{ firstLba: 2050, count: 1 }])
    const [a, b] = [0, 1].map((i) => new ReadTogether(bad, window, i))
    const ends = await Promise.allSettled([a, b].map((m) => m.read(MIB, new Uint8Array(MIB))))
    for (const end of ends) expect((end as PromiseRejectedResult).reason).toBeInstanceOf(UnreadableSectors)
    const own = await source()
    await Promise.all([a, b].map((m) => readAll(m, own, [0, 2, 3])))
  })

  it('get the bytes that they ask for, whatever each of them leaves out', { timeout: 60_000 }, async () => {
    const own = await source()
    const parts = fc.array(fc.subarray(ORDER.slice(0, 90), { minLength: 1 }), { minLength: 2, maxLength: 3 })
    await fc.assert(
      fc.asyncProperty(parts, async (orders) => {
        const device = await source()
        const window = windowFor(orders.length)
        await Promise.all(orders.map((order, i) => readAll(new ReadTogether(device, window, i, 20), own, order)))
        expect(device.reads).toBeLessThanOrEqual(orders.reduce((sum, order) => sum + order.length, 0))
        expect(device.reads).toBeGreaterThanOrEqual(new Set(orders.flat()).size)
      }),
      { numRuns: runsOf(6, 60) },
    )
  })
})
