import type { BlockDevice } from '../../block/device'
import { concatBytes } from '../../bytes/concat'
import { alignUp } from '../../bytes/size'
import { viewOf } from '../../bytes/struct'
import { CoreError } from '../../errors'
import { buildTree, type NewFile, type TreeNode } from '../new-files'
import {
  ATTRIBUTE_UNMOUNTED,
  FILE_DATA_FORK,
  FILE_RECORD,
  FOLDER_RECORD,
  FORK,
  FORKS,
  HEADER_OFFSET,
  ID,
  NODE,
  NODE_HEADER,
  NODE_INDEX,
  NODE_LEAF,
  RECORD_FILE,
  RECORD_FOLDER,
  TREE_HEADER,
  VOLUME_HEADER,
} from './layout'

const BLOCK = 4096
const NODE_BYTES = 8192

export interface NewHfsPlus {
  readonly label: string
  readonly volumeId: bigint
  /** Seconds since 1904. */
  readonly time: number
  readonly files: readonly NewFile[]
  /** The folder a start volume names as its system's. */
  readonly systemFolder?: string
}

interface Run {
  readonly start: number
  readonly count: number
}

/**
 * Makes an HFS+ volume that fills the device (TN1150), with these files; those without content take their
 * blocks and leave them as they are. Throws CoreError when they do not fit.
 */
export async function formatHfsPlus(device: BlockDevice, volume: NewHfsPlus): Promise<void> {
  const totalBlocks = Math.floor(device.size / BLOCK)
  const bitmapBlocks = Math.ceil(totalBlocks / 8 / BLOCK)
  // The first block holds the volume header, the last its copy.
  let next = 1
  const take = (bytes: number): Run => {
    const run = { start: next, count: Math.ceil(bytes / BLOCK) }
    next += run.count
    if (next > totalBlocks - 1) throw new CoreError('The files do not fit on the HFS+ volume.')
    return run
  }
  const allocation = take(bitmapBlocks * BLOCK)
  const extents = take(NODE_BYTES)
  const catalog = collectRecords(volume, take)
  const nodes = buildNodes(catalog.records)
  const catalogRun = take(nodes.length * NODE_BYTES)

  for (const { run, content } of catalog.contents) await device.write(run.start * BLOCK, padded(content, BLOCK))
  await device.write(catalogRun.start * BLOCK, concatBytes(nodes))
  await device.write(extents.start * BLOCK, emptyTree(1))
  const bitmap = new Uint8Array(bitmapBlocks * BLOCK)
  const mark = (block: number) => (bitmap[block >> 3] |= 0x80 >> (block & 7))
  for (let block = 0; block < next; block++) mark(block)
  mark(totalBlocks - 1)
  for (let block = totalBlocks; block < bitmap.length * 8; block++) mark(block)
  await device.write(allocation.start * BLOCK, bitmap)

  const header = new Uint8Array(512)
  VOLUME_HEADER.write(header, {
    signature: 'H+',
    version: 4,
    attributes: ATTRIBUTE_UNMOUNTED,
    lastMountedVersion: '10.0',
    created: volume.time,
    modified: volume.time,
    checked: volume.time,
    fileCount: catalog.fileCount,
    folderCount: catalog.folderCount,
    blockSize: BLOCK,
    totalBlocks,
    freeBlocks: totalBlocks - next - 1,
    nextAllocation: next,
    dataClump: 65536,
    nextCatalogId: catalog.nextId,
    writeCount: 1,
    encodings: 1n,
    systemFolder: catalog.systemFolder,
    systemFolderX: catalog.systemFolder,
    volumeId: volume.volumeId,
  })
  const forks: [number, Run, number][] = [
    [FORKS.allocation, allocation, bitmap.length],
    [FORKS.extents, extents, NODE_BYTES],
    [FORKS.catalog, catalogRun, nodes.length * NODE_BYTES],
  ]
  for (const [at, run, size] of forks) writeFork(header, at, run, size)
  const sector = device.logicalSectorSize
  const first = new Uint8Array(alignUp(HEADER_OFFSET + 512, sector))
  first.set(header, HEADER_OFFSET)
  await device.write(0, first)
  const last = new Uint8Array(alignUp(1024, sector))
  last.set(header, last.length - 1024)
  await device.write(device.size - last.length, last)
}

interface NewRecord {
  readonly parent: number
  readonly name: string
  readonly data: Uint8Array
}

/** Catalog records for all folders and files, in the order of their keys, and where contents go. */
function collectRecords(volume: NewHfsPlus, take: (bytes: number) => Run) {
  const records: NewRecord[] = []
  const contents: { run: Run; content: Uint8Array }[] = []
  let nextId: number = ID.firstUser
  let fileCount = 0
  let folderCount = 0
  let systemFolder = 0
  const add = (node: TreeNode, name: string, parent: number, id: number, path: string) => {
    if (node.children) {
      const data = new Uint8Array(FOLDER_RECORD.size)
      FOLDER_RECORD.write(data, { type: RECORD_FOLDER, valence: node.children.size, id })
      stamp(data, volume.time)
      records.push({ parent, name, data }, thread(id, parent, name, 3))
      if (path === volume.systemFolder) systemFolder = id
      if (id !== ID.root) folderCount++
      for (const child of node.children.values()) add(child, child.name, id, nextId++, `${path}/${child.name}`)
      return
    }
    const file = node.file!
    const size = 'content' in file ? file.content.length : file.unwrittenBytes
    const data = new Uint8Array(FILE_RECORD.size)
    FILE_RECORD.write(data, { type: RECORD_FILE, id, mode: 0x81a4 })
    // A thread record is there for the file, as bit 1 of the flags says.
    viewOf(data).setUint16(2, 2)
    stamp(data, volume.time)
    if (size > 0) {
      const run = take(size)
      writeFork(data, FILE_DATA_FORK, run, size)
      if ('content' in file) contents.push({ run, content: file.content })
    }
    records.push({ parent, name, data }, thread(id, parent, name, 4))
    fileCount++
  }
  add(buildTree(volume.files), volume.label, ID.rootParent, ID.root, '')
  records.sort((a, b) => a.parent - b.parent || compareNames(a.name, b.name))
  return { records, contents, nextId, fileCount, folderCount, systemFolder }
}

/** The record that leads from a number to its parent and name. */
function thread(id: number, parent: number, name: string, type: number): NewRecord {
  const data = new Uint8Array(10 + name.length * 2)
  const view = viewOf(data)
  view.setUint16(0, type)
  view.setUint32(4, parent)
  view.setUint16(8, name.length)
  for (let i = 0; i < name.length; i++) view.setUint16(10 + i * 2, name.charCodeAt(i))
  return { parent: id, name: '', data }
}

/** Times of a record: created, modified, changed, read. */
function stamp(data: Uint8Array, time: number): void {
  for (let at = 12; at <= 24; at += 4) viewOf(data).setUint32(at, time)
}

/** Names are compared without case; those that are made here are plain. */
function compareNames(a: string, b: string): number {
  const [x, y] = [a.toLowerCase(), b.toLowerCase()]
  return x < y ? -1 : x > y ? 1 : 0
}

function keyBytes({ parent, name }: NewRecord): Uint8Array {
  const key = new Uint8Array(2 + 6 + name.length * 2)
  const view = viewOf(key)
  view.setUint16(0, key.length - 2)
  view.setUint32(2, parent)
  view.setUint16(6, name.length)
  for (let i = 0; i < name.length; i++) view.setUint16(8 + i * 2, name.charCodeAt(i))
  return key
}

interface Filled {
  readonly kind: number
  readonly height: number
  readonly items: Uint8Array[]
  readonly firstKey: Uint8Array
}

/** The nodes of a catalog with these records: header, leaves, then each level of index up to one root. */
function buildNodes(records: readonly NewRecord[]): Uint8Array[] {
  const leaves = fill(
    NODE_LEAF,
    1,
    records.map((record) => {
      const key = keyBytes(record)
      return { key, item: concat(key, record.data) }
    }),
  )
  const levels: { first: number; nodes: Filled[] }[] = [{ first: 1, nodes: leaves }]
  for (let level = levels[0]; level.nodes.length > 1; level = levels.at(-1)!) {
    const first = level.first + level.nodes.length
    const entries = level.nodes.map((node, i) => {
      const child = new Uint8Array(4)
      viewOf(child).setUint32(0, level.first + i)
      return { key: node.firstKey, item: concat(node.firstKey, child) }
    })
    levels.push({ first, nodes: fill(NODE_INDEX, levels.length + 1, entries) })
  }
  const top = levels.at(-1)!
  const total = top.first + top.nodes.length
  const nodes = [
    treeHeader({
      depth: levels.length,
      root: top.first,
      leafRecords: records.length,
      firstLeaf: 1,
      lastLeaf: leaves.length,
      totalNodes: total,
      maxKey: 516,
      attributes: 6,
      compare: 0xcf,
    }),
  ]
  for (const { first, nodes: filled } of levels) {
    filled.forEach((node, i) => {
      const isLast = i === filled.length - 1
      nodes.push(nodeBytes(node, isLast ? 0 : first + i + 1, i === 0 ? 0 : first + i - 1))
    })
  }
  return nodes
}

function fill(kind: number, height: number, entries: readonly { key: Uint8Array; item: Uint8Array }[]): Filled[] {
  const nodes: Filled[] = []
  let room = 0
  for (const { key, item } of entries) {
    // Each record takes an offset of two bytes at the node's end.
    if (room < item.length + 2) {
      nodes.push({ kind, height, items: [], firstKey: key })
      room = NODE_BYTES - NODE.size - 2
    }
    nodes.at(-1)!.items.push(item)
    room -= item.length + 2
  }
  return nodes
}

function nodeBytes({ kind, height, items }: Filled, next: number, previous: number): Uint8Array {
  const bytes = new Uint8Array(NODE_BYTES)
  NODE.write(bytes, { next, previous, kind, height, records: items.length })
  const view = viewOf(bytes)
  let at: number = NODE.size
  items.forEach((item, i) => {
    view.setUint16(NODE_BYTES - 2 * (i + 1), at)
    bytes.set(item, at)
    at += item.length
  })
  view.setUint16(NODE_BYTES - 2 * (items.length + 1), at)
  return bytes
}

function treeHeader(values: Parameters<typeof TREE_HEADER.write>[1] & { totalNodes: number }): Uint8Array {
  const bytes = new Uint8Array(NODE_BYTES)
  const mapAt = NODE.size + TREE_HEADER.size + 128
  NODE.write(bytes, { kind: NODE_HEADER, records: 3 })
  TREE_HEADER.write(bytes, { ...values, nodeSize: NODE_BYTES, freeNodes: 0, clump: NODE_BYTES }, NODE.size)
  for (let node = 0; node < values.totalNodes; node++) bytes[mapAt + (node >> 3)] |= 0x80 >> (node & 7)
  const view = viewOf(bytes)
  const offsets = [NODE.size, NODE.size + TREE_HEADER.size, mapAt, NODE_BYTES - 8]
  offsets.forEach((offset, i) => view.setUint16(NODE_BYTES - 2 * (i + 1), offset))
  return bytes
}

function emptyTree(totalNodes: number): Uint8Array {
  return treeHeader({ totalNodes, maxKey: 10, attributes: 2 })
}

function writeFork(bytes: Uint8Array, at: number, run: Run, size: number): void {
  const extents = new Uint8Array(64)
  viewOf(extents).setUint32(0, run.start)
  viewOf(extents).setUint32(4, run.count)
  FORK.write(bytes, { size, blocks: run.count, extents }, at)
}

function concat(a: Uint8Array, b: Uint8Array): Uint8Array {
  const bytes = new Uint8Array(alignUp(a.length, 2) + alignUp(b.length, 2))
  bytes.set(a)
  bytes.set(b, alignUp(a.length, 2))
  return bytes
}

function padded(bytes: Uint8Array, unit: number): Uint8Array {
  const whole = new Uint8Array(alignUp(bytes.length, unit))
  whole.set(bytes)
  return whole
}
