import { type BlockDevice, readBytes } from '../../block/device'
import { viewOf } from '../../bytes/struct'
import { BadStructure } from '../../errors'
import {
  EXTENT_HEADER,
  EXTENT_INDEX,
  EXTENT_LEAF,
  EXTENT_MAGIC,
  type INODE,
  INODE_EXTENTS,
  LONGEST_WRITTEN,
} from './layout'
import type { ExtGeometry } from './volume'

/** Part of a file: `length` blocks from block `file` of it, at block `disk` of the volume; null where it is zeros. */
export interface BlockRun {
  readonly file: number
  readonly disk: number | null
  readonly length: number
}

type Inode = ReturnType<typeof INODE.read>

/** More runs than any healthy file has; a tree that yields more is taken for damage. */
const MAX_RUNS = 1_000_000

/**
 * Where the blocks of an inode lie, in order; holes are left out. `ownBlock` is told of each block that only names
 * others. Throws BadStructure.
 */
export async function blockRuns(
  device: BlockDevice,
  geometry: ExtGeometry,
  inode: Inode,
  blocks: number,
  ownBlock: (block: number) => void = () => {},
) {
  const runs: BlockRun[] = []
  if (inode.flags & INODE_EXTENTS) await walkExtents(inode.blocks, 5, runs, new Set())
  else await walkPointers(inode.blocks, runs)
  return runs

  async function readBlock(block: number): Promise<Uint8Array> {
    if (block >= geometry.blockCount) {
      throw new BadStructure('ext inode', 0, `it points to block ${block} outside the volume`)
    }
    ownBlock(block)
    return readBytes(device, block * geometry.blockSize, geometry.blockSize)
  }

  async function walkExtents(node: Uint8Array, deepest: number, into: BlockRun[], seen: Set<number>): Promise<void> {
    const { magic, entries, depth } = EXTENT_HEADER.read(node)
    const bad = (why: string) => new BadStructure('ext extent tree', 0, why)
    if (magic !== EXTENT_MAGIC) throw bad('a node does not carry its mark')
    if (depth > deepest || (entries + 1) * 12 > node.length) throw bad('a node contradicts its place')
    for (let i = 1; i <= entries; i++) {
      if (depth > 0) {
        const index = EXTENT_INDEX.read(node, i * 12)
        const child = index.leafLow + index.leafHigh * 2 ** 32
        if (seen.has(child)) throw bad('it leads back to itself')
        seen.add(child)
        await walkExtents(await readBlock(child), depth - 1, into, seen)
        continue
      }
      const leaf = EXTENT_LEAF.read(node, i * 12)
      const unwritten = leaf.length > LONGEST_WRITTEN
      const length = unwritten ? leaf.length - LONGEST_WRITTEN : leaf.length
      const disk = leaf.startLow + leaf.startHigh * 2 ** 32
      if (disk + length > geometry.blockCount) throw bad(`an extent of ${length} blocks from ${disk} leaves the volume`)
      into.push({ file: leaf.block, disk: unwritten ? null : disk, length })
      if (into.length > MAX_RUNS) throw bad('it has more extents than a file can')
    }
  }

  /** Twelve direct blocks, then one, two and three steps of pointers ("Direct/Indirect Block Addressing"). */
  async function walkPointers(pointers: Uint8Array, into: BlockRun[]): Promise<void> {
    const perBlock = geometry.blockSize / 4
    const seen = new Set<number>()
    let file = 0
    const add = (disk: number) => {
      const last = into.at(-1) as { file: number; disk: number; length: number } | undefined
      if (disk !== 0) {
        if (disk >= geometry.blockCount) {
          throw new BadStructure('ext inode', 0, `it points to block ${disk} outside the volume`)
        }
        if (last && last.file + last.length === file && last.disk + last.length === disk) last.length++
        else into.push({ file, disk, length: 1 })
      }
      file++
    }
    const walk = async (block: number, steps: number): Promise<void> => {
      if (file >= blocks) return
      if (block === 0) {
        file += perBlock ** steps
        return
      }
      if (steps === 0) return add(block)
      if (seen.has(block)) throw new BadStructure('ext inode', 0, 'its blocks of pointers lead back to themselves')
      seen.add(block)
      const view = viewOf(await readBlock(block))
      for (let i = 0; i < perBlock && file < blocks; i++) await walk(view.getUint32(i * 4, true), steps - 1)
    }
    const view = viewOf(pointers)
    for (let i = 0; i < 12; i++) await walk(view.getUint32(i * 4, true), 0)
    for (let steps = 1; steps <= 3; steps++) await walk(view.getUint32((11 + steps) * 4, true), steps)
  }
}
