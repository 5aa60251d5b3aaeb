import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { viewOf } from '../../bytes/struct'
import { BadStructure } from '../../errors'
import { sameBytes } from '../../testing'
import { applyFixups, removeFixups } from './fixups'

function record(content: Uint8Array): Uint8Array {
  const bytes = content.slice()
  const view = viewOf(bytes)
  view.setUint16(4, 48, true)
  view.setUint16(6, bytes.length / 512 + 1, true)
  return bytes
}

describe('update sequences', () => {
  it('come out as they went in', () => {
    fc.assert(
      fc.property(fc.uint8Array({ minLength: 1024, maxLength: 1024 }), (content) => {
        const bytes = record(content)
        const stored = bytes.slice()
        applyFixups(stored)
        removeFixups(stored, 0, 'record')
        // The sequence number and its array are the record's own; all else must be as it was.
        expect(sameBytes(stored.subarray(54), bytes.subarray(54))).toBe(true)
        expect(sameBytes(stored.subarray(0, 48), bytes.subarray(0, 48))).toBe(true)
      }),
    )
  })

  it('tell a record of which only some sectors were written', () => {
    const bytes = record(new Uint8Array(4096).fill(7))
    applyFixups(bytes)
    for (let sector = 0; sector < 8; sector++) {
      const torn = bytes.slice()
      torn[sector * 512 + 510] ^= 1
      expect(() => removeFixups(torn, 0, 'record')).toThrow(BadStructure)
    }
  })

  it('refuse arrays that do not fit the record', () => {
    for (const [at, count] of [
      [48, 2],
      [48, 4],
      [49, 3],
      [600, 3],
      [508, 3],
    ]) {
      const bytes = record(new Uint8Array(1024))
      viewOf(bytes).setUint16(4, at, true)
      viewOf(bytes).setUint16(6, count, true)
      expect(() => removeFixups(bytes, 0, 'record')).toThrow(BadStructure)
    }
  })

  it('count their number up and never use the two that mean nothing', () => {
    const bytes = record(new Uint8Array(1024))
    for (const [before, after] of [
      [1, 2],
      [0xfffe, 1],
      [0xffff, 1],
    ]) {
      viewOf(bytes).setUint16(48, before, true)
      applyFixups(bytes)
      expect(viewOf(bytes).getUint16(48, true)).toBe(after)
    }
  })
})
