import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { viewOf } from '../../bytes/struct'
import { removeFixups } from './fixups'
import { buildIndex, indexEntry, type IndexItem } from './index-tree'
import { ENTRY_HAS_SUBNODE, ENTRY_IS_LAST, INDEX_BLOCK, INDEX_ENTRY, INDEX_HEADER } from './layout'

const BLOCK = 4096

function item(key: number, length: number): IndexItem {
  const bytes = new Uint8Array(length)
  viewOf(bytes).setUint32(0, key, true)
  return indexEntry(BigInt(key), bytes)
}

/** Walks a built tree in order and gives its keys; also checks that every block is reached once. */
function keysOf(root: Uint8Array, blocks: readonly Uint8Array[]): number[] {
  const keys: number[] = []
  const seen = new Set<number>()
  const walk = (node: Uint8Array, headerAt: number, depth: number) => {
    expect(depth).toBeLessThan(6)
    const { entriesOffset, totalSize } = INDEX_HEADER.read(node, headerAt)
    let at = headerAt + entriesOffset
    for (;;) {
      const entry = INDEX_ENTRY.read(node, at)
      if (entry.flags & ENTRY_HAS_SUBNODE) {
        const vcn = Number(viewOf(node).getBigUint64(at + entry.length - 8, true))
        expect(seen.has(vcn)).toBe(false)
        seen.add(vcn)
        const block = blocks[vcn].slice()
        removeFixups(block, 0, 'block')
        expect(INDEX_BLOCK.read(block).vcn).toBe(vcn)
        walk(block, INDEX_BLOCK.size, depth + 1)
      }
      if (entry.flags & ENTRY_IS_LAST) break
      keys.push(viewOf(node).getUint32(at + INDEX_ENTRY.size, true))
      at += entry.length
    }
    expect(at).toBeLessThan(headerAt + totalSize)
  }
  walk(root, 0, 0)
  expect(seen.size).toBe(blocks.length)
  return keys
}

describe('an index tree', () => {
  it('gives its keys back in order, for any number of entries of any length', () => {
    fc.assert(
      fc.property(fc.array(fc.integer({ min: 66, max: 576 }), { maxLength: 700 }), (lengths) => {
        const items = lengths.map((length, i) => item(i, length))
        const { rootNode, blocks } = buildIndex(items, BLOCK, 1, 600)
        expect(keysOf(rootNode, blocks)).toEqual(lengths.map((_, i) => i))
        expect(rootNode.length).toBeLessThanOrEqual(16 + 600)
        for (const block of blocks) expect(block.length).toBe(BLOCK)
      }),
      { numRuns: 60 },
    )
  })

  it('lies in its root alone while that has room', () => {
    const { blocks } = buildIndex([item(1, 70), item(2, 70)], BLOCK, 1, 400)
    expect(blocks).toEqual([])
  })

  it('leaves no block empty', () => {
    for (let count = 1; count < 200; count++) {
      const { blocks } = buildIndex(
        Array.from({ length: count }, (_, i) => item(i, 200)),
        BLOCK,
        1,
        400,
      )
      for (const block of blocks) {
        const copy = block.slice()
        removeFixups(copy, 0, 'block')
        const { entriesOffset } = INDEX_HEADER.read(copy, INDEX_BLOCK.size)
        expect(INDEX_ENTRY.read(copy, INDEX_BLOCK.size + entriesOffset).flags & ENTRY_IS_LAST).toBe(0)
      }
    }
  })
})
