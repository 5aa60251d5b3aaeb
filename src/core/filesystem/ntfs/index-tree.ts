import { alignUp } from '../../bytes/size'
import { viewOf } from '../../bytes/struct'
import { applyFixups } from './fixups'
import { ENTRY_HAS_SUBNODE, ENTRY_IS_LAST, INDEX_BLOCK, INDEX_ENTRY, INDEX_HEADER } from './layout'

/** An index entry without its child: the bytes from the reference to the padded key. */
export interface IndexItem {
  readonly bytes: Uint8Array
}

/** A finished index: the node for the root attribute, and the blocks for the allocation attribute. */
export interface IndexTree {
  /** Index header and entries, to follow the INDEX_ROOT structure. */
  readonly rootNode: Uint8Array
  readonly blocks: readonly Uint8Array[]
}

interface Item {
  readonly bytes: Uint8Array
  child?: number
}

interface Level {
  readonly items: Item[]
  readonly tail?: number
}

/**
 * Builds a B+ tree of NTFS index nodes from items that are already in collation order.
 * `rootRoom` is how many bytes of entries the root may hold; `vcnPerBlock` the numbers one block takes.
 */
export function buildIndex(
  items: readonly IndexItem[],
  blockSize: number,
  vcnPerBlock: number,
  rootRoom: number,
): IndexTree {
  const blocks: Uint8Array[] = []
  let level: Level = { items: items.map(({ bytes }) => ({ bytes })) }
  while (levelBytes(level) > rootRoom) level = packLevel(level, blocks, blockSize, vcnPerBlock)
  return { rootNode: buildNode(level, 16, 0), blocks }
}

/** One entry: `reference` (or the view index's own first 8 bytes), key, padding. */
export function indexEntry(reference: bigint, key: Uint8Array): IndexItem {
  const bytes = new Uint8Array(alignUp(INDEX_ENTRY.size + key.length, 8))
  INDEX_ENTRY.write(bytes, { reference, length: bytes.length, keyLength: key.length })
  bytes.set(key, INDEX_ENTRY.size)
  return { bytes }
}

/** One entry of a view index, which carries data behind its key instead of a file reference. */
export function viewIndexEntry(key: Uint8Array, data: Uint8Array): IndexItem {
  const dataOffset = INDEX_ENTRY.size + key.length
  const bytes = new Uint8Array(alignUp(dataOffset + data.length, 8))
  INDEX_ENTRY.write(bytes, { length: bytes.length, keyLength: key.length })
  viewOf(bytes).setUint16(0, dataOffset, true)
  viewOf(bytes).setUint16(2, data.length, true)
  bytes.set(key, INDEX_ENTRY.size)
  bytes.set(data, dataOffset)
  return { bytes }
}

/** Cuts a level into blocks; what separates two blocks moves up into the level returned. */
function packLevel(level: Level, blocks: Uint8Array[], blockSize: number, vcnPerBlock: number): Level {
  const headerRoom = nodeStart(blockSize)
  const room = blockSize - headerRoom - INDEX_ENTRY.size - 8
  const groups: { items: Item[]; tail?: number }[] = [{ items: [] }]
  const separators: Item[] = []
  let used = 0
  for (const item of level.items) {
    const size = item.bytes.length + (item.child === undefined ? 0 : 8)
    const group = groups.at(-1)!
    if (used + size <= room) {
      group.items.push(item)
      used += size
      continue
    }
    group.tail = item.child
    separators.push({ bytes: item.bytes })
    groups.push({ items: [] })
    used = 0
  }
  const last = groups.at(-1)!
  if (last.items.length === 0 && groups.length > 1) {
    // The last separator would leave an empty block behind it: the one before it separates instead.
    const before = groups.at(-2)!
    last.items.push({ bytes: separators.pop()!.bytes, child: before.tail })
    const up = before.items.pop()!
    before.tail = up.child
    separators.push({ bytes: up.bytes })
  }
  last.tail = level.tail
  const numbers = groups.map((group) => {
    const vcn = blocks.length * vcnPerBlock
    blocks.push(buildBlock(group, blockSize, vcn))
    return vcn
  })
  return { items: separators.map((item, i) => ({ ...item, child: numbers[i] })), tail: numbers.at(-1) }
}

function buildBlock(level: Level, blockSize: number, vcn: number): Uint8Array {
  const bytes = new Uint8Array(blockSize)
  const usaCount = blockSize / 512 + 1
  const usaOffset = INDEX_BLOCK.size + INDEX_HEADER.size
  INDEX_BLOCK.write(bytes, { magic: 'INDX', usaOffset, usaCount, vcn })
  const entriesOffset = nodeStart(blockSize) - INDEX_BLOCK.size
  bytes.set(buildNode(level, entriesOffset, blockSize - INDEX_BLOCK.size).subarray(0, blockSize), INDEX_BLOCK.size)
  applyFixups(bytes)
  return bytes
}

/** Index header and entries. `allocated` 0 stands for a root, which is as long as its entries. */
function buildNode(level: Level, entriesOffset: number, allocated: number): Uint8Array {
  const parent = level.tail !== undefined
  const total = entriesOffset + levelBytes(level)
  const bytes = new Uint8Array(total)
  INDEX_HEADER.write(bytes, {
    entriesOffset,
    totalSize: total,
    allocatedSize: allocated || total,
    flags: parent ? 1 : 0,
  })
  let at = entriesOffset
  for (const item of level.items) {
    bytes.set(item.bytes, at)
    at += finishEntry(bytes, at, item.bytes.length, item.child, 0)
  }
  finishEntry(bytes, at, INDEX_ENTRY.size, level.tail, ENTRY_IS_LAST)
  return bytes
}

function finishEntry(bytes: Uint8Array, at: number, length: number, child: number | undefined, flags: number): number {
  const whole = length + (child === undefined ? 0 : 8)
  INDEX_ENTRY.write(bytes, { length: whole, flags: flags | (child === undefined ? 0 : ENTRY_HAS_SUBNODE) }, at)
  if (child !== undefined) viewOf(bytes).setBigUint64(at + whole - 8, BigInt(child), true)
  return whole
}

function levelBytes({ items, tail }: Level): number {
  const own = items.reduce((sum, item) => sum + item.bytes.length + (item.child === undefined ? 0 : 8), 0)
  return own + INDEX_ENTRY.size + (tail === undefined ? 0 : 8)
}

/** Where entries start in a block: behind its head and update sequence. */
function nodeStart(blockSize: number): number {
  return alignUp(INDEX_BLOCK.size + INDEX_HEADER.size + (blockSize / 512 + 1) * 2, 8)
}
