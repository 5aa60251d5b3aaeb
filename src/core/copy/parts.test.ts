import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '../block/memory'
import { sha256 } from '../testing-disk'
import { BufferPool } from './buffers'
import { readMarker, unfinishedMarker } from './marker'
import type { Piece } from './plan'
import { type Span, spanDigest, SpanDigests } from './spans'

const piece = (offset: number): Piece => ({ offset, length: 512, partition: 1, sourceOffset: offset, zero: false })

describe('the buffer pool', () => {
  it('never has more buffers out than it was made with', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.integer({ min: 1, max: 4 }),
        fc.array(fc.boolean(), { maxLength: 60 }),
        async (count, wishes) => {
          const pool = new BufferPool(count, 16)
          const out: Uint8Array[] = []
          let waiting = 0
          for (const take of wishes) {
            if (take) {
              waiting++
              void pool.take().then((buffer) => {
                waiting--
                out.push(buffer)
              })
            } else if (out.length > 0) pool.give(out.shift()!)
            await Promise.resolve()
            expect(out.length).toBeLessThanOrEqual(count)
            expect(new Set(out).size).toBe(out.length)
          }
          while (out.length > 0 || waiting > 0) {
            if (out.length > 0) pool.give(out.shift()!)
            await Promise.resolve()
          }
        },
      ),
    )
  })
})

describe('the digests of spans', () => {
  const rolled = async (digests: readonly number[]) => {
    const spans: Span[] = []
    const rolling = new SpanDigests((span) => void spans.push(span))
    for (const [i, value] of digests.entries()) await rolling.add(piece(i * 512), new Uint8Array(32).fill(value))
    await rolling.close()
    return spans
  }

  it('are few, hold every piece once and in order, and close the last one', async () => {
    const spans = await rolled(Array.from({ length: 700 }, () => 1))
    expect(spans.map((s) => s.pieces.length)).toEqual([256, 256, 188])
    expect(spans.flatMap((s) => s.pieces.map((p) => p.offset))).toEqual(Array.from({ length: 700 }, (_, i) => i * 512))
    expect(await rolled([])).toEqual([])
  })

  it('change when any piece does, in the span of that piece only', async () => {
    const same = Array.from({ length: 600 }, (_, i) => i % 7)
    const other = same.map((value, i) => (i === 300 ? 99 : value))
    const [a, b] = [await rolled(same), await rolled(other)]
    const digest = (span: Span) => spanDigest(span, sha256)
    expect(a.map((span, i) => Buffer.compare(digest(span), digest(b[i])) === 0)).toEqual([true, false, true])
  })
})

describe('the mark of an unfinished copy', () => {
  it('is read back, without anything a firmware would start', async () => {
    for (const sector of [512, 4096] as const) {
      const device = new MemoryDevice(1024 * 1024, sector)
      const marker = unfinishedMarker(sector, 'Ticket desk, Lanterna museum, from CRV3-8841-07KD')
      await device.write(0, marker)
      expect(await readMarker(device)).toBe('Ticket desk, Lanterna museum, from CRV3-8841-07KD')
      expect([marker[510], marker[511]]).toEqual([0, 0])
    }
  })

  it('takes any note without spilling over', async () => {
    await fc.assert(
      fc.asyncProperty(fc.string({ maxLength: 1000, unit: 'binary' }), async (note) => {
        const marker = unfinishedMarker(512, note)
        expect(marker.length).toBe(512)
        expect(marker.subarray(440).every((byte) => byte === 0)).toBe(true)
        const device = new MemoryDevice(65536)
        await device.write(0, marker)
        expect(typeof (await readMarker(device))).toBe('string')
      }),
    )
  })

  it('is absent from anything else', async () => {
    expect(await readMarker(new MemoryDevice(65536))).toBeUndefined()
  })
})
