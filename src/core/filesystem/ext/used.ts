import { type BlockDevice, type Extent, readBytes } from '../../block/device'
import { unionExtents } from '../../block/extents'
import { bitRunsOf } from '../bitmap'
import { INCOMPATIBLE } from './layout'
import { type ExtGeometry, type Group, hasBackup } from './volume'

/** Used blocks of a volume, group by group. `offset` and `length` in blocks. */
export async function* usedBlocks(
  device: BlockDevice,
  geometry: ExtGeometry,
  groups: readonly Group[],
): AsyncGenerator<Extent> {
  const { blockSize, blocksPerGroup, blockCount, firstDataBlock, clusterBlocks } = geometry
  // The boot block in front of a volume with blocks of 1 KiB belongs to no group.
  if (firstDataBlock > 0) yield { offset: 0, length: firstDataBlock }
  const own = ownBlocks(geometry, groups)
  let cache: { first: number; bytes: Uint8Array } | undefined
  for (const [index, group] of groups.entries()) {
    const start = firstDataBlock + index * blocksPerGroup
    const blocks = Math.min(blocksPerGroup, blockCount - start)
    if (group.uninitialised) {
      yield* own.get(index) ?? []
      continue
    }
    // Bitmaps of neighbouring groups mostly lie side by side, so several are read at once.
    if (
      !cache ||
      group.blockBitmap < cache.first ||
      (group.blockBitmap - cache.first + 1) * blockSize > cache.bytes.length
    ) {
      const count = Math.min(16, blockCount - group.blockBitmap)
      cache = {
        first: group.blockBitmap,
        bytes: await readBytes(device, group.blockBitmap * blockSize, count * blockSize),
      }
    }
    const at = (group.blockBitmap - cache.first) * blockSize
    const bits = Math.ceil(blocks / clusterBlocks)
    for (const run of bitRunsOf(cache.bytes.subarray(at, at + blockSize), bits)) {
      const offset = start + run.offset * clusterBlocks
      yield { offset, length: Math.min(run.length * clusterBlocks, start + blocks - offset) }
    }
  }
}

/**
 * For each group whose bitmap was never written, the blocks of it that hold metadata: copies of superblock
 * and descriptors, and tables of any group that were placed there.
 */
function ownBlocks(geometry: ExtGeometry, groups: readonly Group[]): Map<number, Extent[]> {
  const { blocksPerGroup, firstDataBlock, superblock, inodesPerGroup, inodeSize, blockSize, descriptorSize } = geometry
  const found = new Map<number, Extent[]>()
  const groupOf = (block: number) => Math.floor((block - firstDataBlock) / blocksPerGroup)
  const add = (offset: number, length: number) => {
    for (let at = offset; at < offset + length;) {
      const group = groupOf(at)
      const stop = Math.min(offset + length, firstDataBlock + (group + 1) * blocksPerGroup, geometry.blockCount)
      if (stop <= at) return
      if (groups[group]?.uninitialised) {
        const list = found.get(group)
        if (list) list.push({ offset: at, length: stop - at })
        else found.set(group, [{ offset: at, length: stop - at }])
      }
      at = stop
    }
  }
  const tableBlocks = Math.ceil((inodesPerGroup * inodeSize) / blockSize)
  const descriptorBlocks = Math.ceil((groups.length * descriptorSize) / blockSize)
  const meta = (superblock.incompatible & INCOMPATIBLE.metaGroups) !== 0
  const perMeta = blockSize / descriptorSize
  for (const [index, group] of groups.entries()) {
    if (hasBackup(index, geometry)) {
      add(
        firstDataBlock + index * blocksPerGroup,
        1 + (meta ? superblock.firstMetaGroup : descriptorBlocks) + superblock.reservedGdtBlocks,
      )
    }
    // Each meta group keeps its block of descriptors in its first two groups and its last.
    if (meta && [0, 1, perMeta - 1].includes(index % perMeta)) {
      add(firstDataBlock + index * blocksPerGroup + (hasBackup(index, geometry) ? 1 : 0), 1)
    }
    add(group.blockBitmap, 1)
    add(group.inodeBitmap, 1)
    add(group.inodeTable, tableBlocks)
  }
  for (const [group, list] of found) found.set(group, unionExtents(list, []))
  return found
}
