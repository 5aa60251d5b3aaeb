import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { unpackUnit } from './compression'
import { runsOf } from '../../testing'

/** Packs as the format allows: literals, and a copy wherever three bytes or more stood before in the block. */
function pack(bytes: Uint8Array): Uint8Array {
  const out: number[] = []
  for (let start = 0; start < bytes.length; start += 4096) {
    const block = bytes.subarray(start, start + 4096)
    const packed: number[] = []
    let at = 0
    while (at < block.length) {
      const flagAt = packed.length
      packed.push(0)
      for (let bit = 0; bit < 8 && at < block.length; bit++) {
        let shift = 12
        for (let place = at - 1; place >= 16; place >>= 1) shift--
        const longest = (1 << shift) - 1 + 3
        let best = { length: 0, distance: 0 }
        for (let distance = 1; distance <= Math.min(at, 64); distance++) {
          let length = 0
          while (length < longest && at + length < block.length && block[at + length] === block[at + length - distance])
            length++
          if (length > best.length) best = { length, distance }
        }
        if (at > 0 && best.length >= 3) {
          const token = ((best.distance - 1) << shift) | (best.length - 3)
          packed.push(token & 0xff, token >> 8)
          packed[flagAt] |= 1 << bit
          at += best.length
        } else packed.push(block[at++])
      }
    }
    if (packed.length < block.length) out.push((packed.length - 1) & 0xff, 0xb0 | ((packed.length - 1) >> 8), ...packed)
    else out.push(0xff, 0x3f, ...block, ...new Array(4096 - block.length).fill(0))
  }
  return Uint8Array.from([...out, 0, 0])
}

describe('a compression unit', () => {
  it('unpacks to what was packed, whatever that was', () => {
    const runs = fc.array(fc.tuple(fc.uint8Array({ minLength: 1, maxLength: 9 }), fc.integer({ min: 1, max: 300 })), {
      maxLength: 40,
    })
    fc.assert(
      fc.property(runs, (list) => {
        const bytes = Uint8Array.from(
          list.flatMap(([part, times]) => Array.from({ length: times }, () => [...part]).flat()),
        )
        const out = new Uint8Array(Math.ceil(bytes.length / 4096) * 4096)
        unpackUnit(pack(bytes), out)
        expect(Buffer.compare(out.subarray(0, bytes.length), bytes)).toBe(0)
        expect(out.subarray(bytes.length).every((b) => b === 0)).toBe(true)
      }),
      { numRuns: 150 },
    )
  })

  it('never writes or reads outside of itself', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 600 }), (packed) => {
        const out = new Uint8Array(8192)
        try {
          unpackUnit(packed, out)
        } catch (error) {
          expect((error as Error).name).toBe('BadStructure')
        }
      }),
      { numRuns: runsOf(600, 10000) },
    )
  })
})
