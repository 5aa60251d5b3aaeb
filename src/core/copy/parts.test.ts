import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '../block/memory'
import { partsOf } from '../block/extents'
import { sameBytes } from '../testing'
import { sha256 } from '../testing-disk'
import { BufferPool } from './buffers'
import { readMarker, unfinishedMarker } from '../survey/marker'
import { digestOn, joinedDigest, PieceDigests, pieceDigest, zeroDigest } from './piece-digests'

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

describe('the digests of pieces', () => {
  it('are kept by place, in any order of setting, and change the whole when any of them does', () => {
    const of = (values: readonly number[]) => {
      const digests = new PieceDigests()
      for (const [i, value] of [...values.entries()].reverse()) digests.set(i, new Uint8Array(32).fill(value))
      return digests
    }
    const values = Array.from({ length: 3000 }, (_, i) => i % 7)
    const same = of(values)
    expect(same.length).toBe(3000)
    for (const [i, value] of values.entries()) {
      expect(same.is(i, new Uint8Array(32).fill(value))).toBe(true)
      expect(same.is(i, new Uint8Array(32).fill(value + 1))).toBe(false)
    }
    expect(of(values).whole(sha256)).toBe(same.whole(sha256))
    expect(of(values.map((v, i) => (i === 2999 ? 9 : v))).whole(sha256)).not.toBe(same.whole(sha256))
  })

  it('tell zeros by their length alone', () => {
    expect(pieceDigest(new Uint8Array(4096), sha256)).toEqual(zeroDigest(4096))
    expect(zeroDigest(4096)).not.toEqual(zeroDigest(8192))
  })

  it('of a piece longer than what holds it are told part by part, and differ with every byte', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.integer({ min: 1, max: 40 }),
        fc.option(fc.record({ at: fc.nat(40 * 512 - 1), byte: fc.integer({ min: 1, max: 255 }) })),
        fc.integer({ min: 1, max: 12 }),
        async (sectors, spot, room) => {
          const bytes = new Uint8Array(sectors * 512)
          if (spot) bytes[spot.at % bytes.length] = spot.byte
          const device = new MemoryDevice(bytes.length)
          await device.write(0, bytes)
          const piece = { offset: 0, length: bytes.length }
          const into = new Uint8Array(room * 512)
          const found = await digestOn(device, piece, into, sha256)
          const zeros = await digestOn(new MemoryDevice(bytes.length), piece, into, sha256)
          expect(zeros).toEqual(zeroDigest(bytes.length))
          expect(sameBytes(found, zeros)).toBe(!spot)
          const parts = [...partsOf(piece, into.length)].map(({ offset, length }) => ({
            length,
            digest: pieceDigest(bytes.subarray(offset, offset + length), sha256),
          }))
          expect(joinedDigest(parts, sha256)).toEqual(found)
        },
      ),
    )
  })
})

describe('the mark of an unfinished copy', () => {
  it('is read back, without anything a firmware would start', async () => {
    for (const sector of [512, 4096] as const) {
      const device = new MemoryDevice(1024 * 1024, sector)
      const marker = unfinishedMarker(sector, {
        note: 'Ticket desk, Lanterna museum, from CRV3-8841-07KD',
        job: 'ticket-desk-0-1',
      })
      await device.write(0, marker)
      expect(await readMarker(device)).toEqual({
        note: 'Ticket desk, Lanterna museum, from CRV3-8841-07KD',
        job: 'ticket-desk-0-1',
      })
      expect([marker[510], marker[511]]).toEqual([0, 0])
    }
  })

  it('takes any note without spilling over', async () => {
    await fc.assert(
      fc.asyncProperty(fc.string({ maxLength: 1000, unit: 'binary' }), async (note) => {
        const marker = unfinishedMarker(512, { note, job: note })
        expect(marker.length).toBe(512)
        expect(marker.subarray(440).every((byte) => byte === 0)).toBe(true)
        const device = new MemoryDevice(65536)
        await device.write(0, marker)
        expect((await readMarker(device))?.job ?? '').toHaveLength(Math.min(note.length, 90))
      }),
    )
  })

  it('is absent from anything else', async () => {
    expect(await readMarker(new MemoryDevice(65536))).toBeUndefined()
  })
})
