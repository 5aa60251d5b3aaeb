import { fieldsOf, utf16ToString, viewOf } from '../../bytes/struct'
import { BadStructure } from '../../errors'
import { removeFixups } from './fixups'
import {
  ATTRIBUTE_TYPES,
  ENTRY_HAS_SUBNODE,
  ENTRY_IS_LAST,
  FILE_ATTRIBUTE_DIRECTORY_INDEX,
  FILE_NAME,
  INDEX_BLOCK,
  INDEX_ENTRY,
  INDEX_HEADER,
  INDEX_ROOT,
  NAMESPACE_DOS,
  recordOf,
} from './layout'
import type { FileRecord, NtfsVolume, Stream } from './volume'

/** A name in a directory index. */
export interface NamedRecord {
  readonly name: string
  readonly record: number
  readonly isDirectory: boolean
  readonly sizeBytes: number
}

/**
 * All names of a directory in the order of its index, short 8.3 aliases left out. Follows the tree from its
 * root; a block that is reached twice, or lies outside, throws BadStructure.
 */
export async function readDirectory(volume: NtfsVolume, record: FileRecord): Promise<NamedRecord[]> {
  const names: NamedRecord[] = []
  await walkIndex(volume, record, (node, at, { length, reference }) => {
    const named = readName(node, at, length, reference)
    if (named) names.push(named)
  })
  return names
}

/** Called with each entry but the closing ones: the node's bytes, where the entry begins in them, and its head. */
type Visit = (node: Uint8Array, at: number, entry: ReturnType<typeof INDEX_ENTRY.read>) => void

/** Goes through a directory's index in order. Returns the size of its blocks. Throws as readDirectory. */
export async function walkIndex(volume: NtfsVolume, record: FileRecord, visit: Visit): Promise<number> {
  const attributes = await volume.attributes(record)
  const root = attributes.find((a) => a.type === ATTRIBUTE_TYPES.indexRoot && a.name === '$I30')
  if (!root?.value) throw new BadStructure(`directory record ${record.number}`, 0, 'it has no index')
  const { blockSize } = INDEX_ROOT.read(root.value)
  if (blockSize < 512 || blockSize > 65536 || blockSize % 512 !== 0) {
    throw new BadStructure(`directory record ${record.number}`, 0, `its index blocks would be ${blockSize} bytes`)
  }
  const blocks = await volume.stream(record, ATTRIBUTE_TYPES.indexAllocation, '$I30')
  const vcnUnit = vcnUnitOf(blockSize, volume.geometry.clusterSize)
  const seen = new Set<number>()
  await walk(root.value, INDEX_ROOT.size, root.value.length)
  return blockSize

  async function walk(node: Uint8Array, headerAt: number, end: number): Promise<void> {
    const header = INDEX_HEADER.read(node, headerAt)
    let at = headerAt + header.entriesOffset
    const stop = headerAt + header.totalSize
    if (stop > end) throw new BadStructure('directory index', headerAt, 'a node is longer than its block')
    for (;;) {
      if (at + INDEX_ENTRY.size > stop) throw new BadStructure('directory index', at, 'a node has no last entry')
      const entry = INDEX_ENTRY.read(node, at)
      if (entry.length < INDEX_ENTRY.size || at + entry.length > stop) {
        throw new BadStructure('directory index', at, `an entry is ${entry.length} bytes long`)
      }
      if (entry.flags & ENTRY_HAS_SUBNODE) {
        const vcn = viewOf(node).getBigUint64(at + entry.length - 8, true)
        await walkBlock(Number(vcn))
      }
      if (entry.flags & ENTRY_IS_LAST) return
      visit(node, at, entry)
      at += entry.length
    }
  }

  async function walkBlock(vcn: number): Promise<void> {
    const block = await readBlock(blocks, vcn, vcnUnit, blockSize)
    if (seen.has(vcn)) throw new BadStructure('directory index', vcn * vcnUnit, 'it leads back to itself')
    seen.add(vcn)
    await walk(block, INDEX_BLOCK.size, block.length)
  }
}

/** A block's number counts clusters, or 512-byte units where a block is smaller than a cluster. */
export function vcnUnitOf(blockSize: number, clusterSize: number): number {
  return blockSize >= clusterSize ? clusterSize : 512
}

async function readBlock(blocks: Stream | undefined, vcn: number, unit: number, size: number): Promise<Uint8Array> {
  const offset = vcn * unit
  if (!blocks || !Number.isSafeInteger(offset) || offset + size > blocks.size) {
    throw new BadStructure('directory index', offset, `block ${vcn} is outside of it`)
  }
  const block = await blocks.read(offset, size)
  const { magic, vcn: own } = INDEX_BLOCK.read(block)
  if (magic !== 'INDX') throw new BadStructure('directory index', offset, 'a block does not carry its mark')
  removeFixups(block, offset, 'directory index')
  if (own !== vcn) throw new BadStructure('directory index', offset, `block ${vcn} calls itself ${own}`)
  return block
}

/** What a listing needs of a name. */
const LISTED = fieldsOf(FILE_NAME, 'dataSize', 'fileAttributes', 'nameLength', 'namespace')

function readName(node: Uint8Array, at: number, length: number, reference: bigint): NamedRecord | undefined {
  if (length < INDEX_ENTRY.size + FILE_NAME.size) {
    throw new BadStructure('directory index', at, 'an entry is too short for a name')
  }
  const keyAt = at + INDEX_ENTRY.size
  const key = LISTED.read(node, keyAt)
  if (INDEX_ENTRY.size + FILE_NAME.size + key.nameLength * 2 > length) {
    throw new BadStructure('directory index', at, 'a name is longer than its entry')
  }
  if (key.namespace === NAMESPACE_DOS) return undefined
  return {
    name: utf16ToString(node, keyAt + FILE_NAME.size, key.nameLength),
    record: recordOf(reference),
    isDirectory: (key.fileAttributes & FILE_ATTRIBUTE_DIRECTORY_INDEX) !== 0,
    sizeBytes: key.dataSize,
  }
}
