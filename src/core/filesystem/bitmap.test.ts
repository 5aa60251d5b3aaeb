import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { collect } from '../testing'
import { bitIsSet, bitRunsOf, nextBit, setBitRuns, setBits } from './bitmap'

const runs = fc.array(fc.tuple(fc.nat({ max: 3000 }), fc.integer({ min: 1, max: 400 })), { maxLength: 20 })

describe('a bitmap', () => {
  it('has exactly the bits that were set and not cleared again', () => {
    fc.assert(
      fc.property(runs, runs, (set, clear) => {
        const bytes = new Uint8Array(430)
        const model = new Array<boolean>(3440).fill(false)
        for (const [first, count] of set) {
          setBits(bytes, first, count)
          model.fill(true, first, first + count)
        }
        for (const [first, count] of clear) {
          setBits(bytes, first, count, false)
          model.fill(false, first, first + count)
        }
        expect(model.every((bit, i) => bitIsSet(bytes, i) === bit)).toBe(true)
      }),
    )
  })

  it('tells the next bit that is set, or is not, from any place on', () => {
    fc.assert(
      fc.property(runs, fc.nat(3440), fc.nat(3440), fc.nat(3), fc.boolean(), (taken, from, end, shift, set) => {
        const bytes = new Uint8Array(430 + shift).subarray(shift)
        for (const [first, count] of taken) setBits(bytes, first, count)
        let wanted = from
        while (wanted < end && bitIsSet(bytes, wanted) !== set) wanted++
        expect(nextBit(bytes, from, Math.max(from, end), set)).toBe(wanted)
      }),
    )
  })

  it('is read as runs that cover the set bits, stand apart and end with it', async () => {
    await fc.assert(
      fc.asyncProperty(runs, fc.integer({ min: 1, max: 3440 }), async (set, bits) => {
        const bytes = new Uint8Array(430)
        for (const [first, count] of set) setBits(bytes, first, count)
        const found = await collect(
          setBitRuns(async (offset, into) => into.set(bytes.subarray(offset, offset + into.length)), bits),
        )
        const covered = new Array<boolean>(bits).fill(false)
        for (const { offset, length } of found) covered.fill(true, offset, offset + length)
        expect(covered.length).toBe(bits)
        expect(covered.every((bit, i) => bit === bitIsSet(bytes, i))).toBe(true)
        found.slice(1).forEach((run, i) => expect(run.offset).toBeGreaterThan(found[i].offset + found[i].length))
      }),
    )
  })

  it('is read as its runs where they are long, and where they begin and end at any place of any memory', () => {
    const lengths = fc.constantFrom(1, 7, 8, 500, 512, 8 * 63, 8 * 64, 8 * 4095, 8 * 4096, 8 * 4097, 8 * 9000)
    fc.assert(
      fc.property(fc.array(lengths, { minLength: 1, maxLength: 12 }), fc.boolean(), fc.nat(3), (gaps, first, shift) => {
        const bits = gaps.reduce((sum, gap) => sum + gap, 0)
        const bytes = new Uint8Array(new ArrayBuffer(Math.ceil(bits / 8) + shift), shift)
        const wanted: { offset: number; length: number }[] = []
        let at = 0
        for (const [i, length] of gaps.entries()) {
          if ((i % 2 === 0) === first) {
            setBits(bytes, at, length)
            wanted.push({ offset: at, length })
          }
          at += length
        }
        expect(bitRunsOf(bytes, bits)).toEqual(wanted)
        for (const { offset, length } of wanted) {
          expect(nextBit(bytes, offset, bits, false)).toBe(offset + length)
          expect(nextBit(bytes, Math.max(0, offset - 1), bits, true)).toBe(
            offset > 0 && wanted.some((run) => run.offset + run.length === offset) ? offset - 1 : offset,
          )
        }
      }),
    )
  })

  it('of any size is read a piece at a time', async () => {
    const bits = 8 * 9 * 1024 * 1024
    let largest = 0
    const read = async (_offset: number, into: Uint8Array) => {
      largest = Math.max(largest, into.length)
      into.fill(0xff)
    }
    expect(await collect(setBitRuns(read, bits))).toEqual([{ offset: 0, length: bits }])
    expect(largest).toBeLessThanOrEqual(4 * 1024 * 1024)
  })
})
