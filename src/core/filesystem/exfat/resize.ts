import { type BlockDevice, readBytes, writeBytes } from '../../block/device'
import { MovedDevice } from '../../block/moved'
import { OverlayDevice } from '../../block/overlay'
import { alignUp } from '../../bytes/size'
import { viewOf } from '../../bytes/struct'
import { BadStructure, CoreError, NotSupported } from '../../errors'
import { setBits } from '../bitmap'
import { BITMAP_ENTRY, END_OF_CHAIN, ENTRY_BITMAP, ENTRY_END, EXFAT_BOOT, FIRST_CLUSTER, FLAG_DIRTY } from './layout'

/** Section 3.1.9: most clusters of a volume. */
const MOST_CLUSTERS = 2 ** 32 - 11
/** Sections 3.1 to 3.4: boot sector, its extensions and their sum, twice. */
const BOOT_SECTORS = 12
const SUM_SECTOR = 11
const PIECE = 1024 * 1024

/** The most bytes an exFAT with clusters of this size can be made to hold. */
export function mostExfatBytes(clusterSize: number): number {
  return Math.min(Number.MAX_SAFE_INTEGER, MOST_CLUSTERS * clusterSize)
}

/**
 * An exFAT volume as it is on `size` bytes, more than it has: the clusters move behind a longer table, the bitmap
 * gets a place of its own that is long enough and in one piece. The device is only read. Throws CoreError when the
 * volume is not clean, and NotSupported for fewer bytes.
 */
export async function resizeExfat(device: BlockDevice, size: number): Promise<OverlayDevice> {
  const boot = EXFAT_BOOT.read(await readBytes(device, 0, 512))
  const sectorSize = 2 ** boot.sectorShift
  const perCluster = 2 ** boot.clusterShift
  const clusterSize = sectorSize * perCluster
  if (boot.flags & FLAG_DIRTY) {
    throw new CoreError('The volume was not closed cleanly, so it is not grown before a file-system check.')
  }
  if (boot.fatCount !== 1) throw new NotSupported('This exFAT volume keeps two tables and keeps its size.')
  const volumeSectors = Math.floor(size / sectorSize)
  if (volumeSectors < boot.volumeSectors) throw new NotSupported('An exFAT volume is not made smaller here.')
  let { fatSectors, heapOffset } = boot
  let clusterCount: number
  for (;;) {
    clusterCount = Math.min(MOST_CLUSTERS, Math.floor((volumeSectors - heapOffset) / perCluster))
    const needed = Math.ceil(((clusterCount + FIRST_CLUSTER) * 4) / sectorSize)
    if (needed <= fatSectors) break
    fatSectors = needed
    heapOffset = Math.max(heapOffset, alignUp(boot.fatOffset + fatSectors, perCluster))
  }
  if (clusterCount < boot.clusterCount) throw new CoreError('The added room is too small for the longer table.')
  const place = (cluster: number) => (heapOffset + (cluster - FIRST_CLUSTER) * perCluster) * sectorSize
  const heap = {
    from: boot.heapOffset * sectorSize,
    to: heapOffset * sectorSize,
    length: boot.clusterCount * clusterSize,
  }
  const overlay = new OverlayDevice(new MovedDevice(device, size, heap.from === heap.to ? [] : [heap]), size)
  await clear(overlay, (boot.fatOffset + boot.fatSectors) * sectorSize, place(FIRST_CLUSTER))

  const table = new ChainTable(overlay, boot.fatOffset * sectorSize, boot.fatSectors * sectorSize)
  const found = await findBitmap(overlay, table, boot.rootCluster, place, clusterSize, boot.clusterCount)
  const bytes = Math.ceil(clusterCount / 8)
  const bitmap = new Uint8Array(bytes)
  const oldBytes = Math.min(found.length, Math.ceil(boot.clusterCount / 8))
  bitmap.set(await readBytes(overlay, place(found.firstCluster), oldBytes))
  // Bits behind the old end stand for nothing, whatever they are.
  const oldEnd = boot.clusterCount
  setBits(bitmap, oldEnd, Math.min(clusterCount, alignUp(oldEnd, 8)) - oldEnd, false)
  const have = Math.ceil(found.length / clusterSize)
  const need = Math.ceil(bytes / clusterSize)
  let firstCluster = found.firstCluster
  if (need > have) {
    if (clusterCount - boot.clusterCount < need)
      throw new CoreError('The added room is too small for the larger bitmap.')
    firstCluster = boot.clusterCount + FIRST_CLUSTER
    setBits(bitmap, found.firstCluster - FIRST_CLUSTER, have, false)
    setBits(bitmap, firstCluster - FIRST_CLUSTER, need)
    for (let i = 0; i < have; i++) await table.set(found.firstCluster + i, 0)
    for (let i = 0; i < need; i++)
      await table.set(firstCluster + i, i === need - 1 ? END_OF_CHAIN : firstCluster + i + 1)
  }
  for (let from = 0; from < bytes; from += PIECE) {
    await writeBytes(overlay, place(firstCluster) + from, bitmap.subarray(from, from + PIECE))
  }
  BITMAP_ENTRY.write(found.entry, { firstCluster, length: bytes })
  await writeBytes(overlay, found.at, found.entry)
  await writeBoot(overlay, sectorSize, (sector) => {
    EXFAT_BOOT.write(sector, { volumeSectors, fatSectors, heapOffset, clusterCount })
    // Section 3.1.17: the share used in hundredths, or "not known".
    sector[112] = 0xff
  })
  return overlay
}

/** Tells a volume at which sector of the drive it starts. */
export async function relocateExfat(device: BlockDevice, startSector: number): Promise<void> {
  const boot = EXFAT_BOOT.read(await readBytes(device, 0, 512))
  // Nought says that the field is to be ignored (section 3.1.3).
  if (boot.partitionOffset === 0n) return
  await writeBoot(device, 2 ** boot.sectorShift, (sector) =>
    EXFAT_BOOT.write(sector, { partitionOffset: BigInt(startSector) }),
  )
}

/** Changes the boot sector, sums the boot region anew and writes both copies of it. */
export async function writeBoot(
  device: BlockDevice,
  sectorSize: number,
  change: (sector: Uint8Array) => void,
): Promise<void> {
  const region = new Uint8Array(await readBytes(device, 0, BOOT_SECTORS * sectorSize))
  change(region)
  let sum = 0
  for (let at = 0; at < SUM_SECTOR * sectorSize; at++) {
    // Flags and share used change while a volume is in use, so they are not summed (section 3.4).
    if (at === 106 || at === 107 || at === 112) continue
    sum = (((sum & 1) << 31) | (sum >>> 1)) + region[at]
    sum >>>= 0
  }
  const view = viewOf(region)
  for (let at = SUM_SECTOR * sectorSize; at < region.length; at += 4) view.setUint32(at, sum, true)
  await writeBytes(device, 0, region)
  await writeBytes(device, region.length, region)
}

export async function clear(device: BlockDevice, from: number, to: number): Promise<void> {
  for (let at = from; at < to; at += PIECE) await writeBytes(device, at, new Uint8Array(Math.min(PIECE, to - at)))
}

/** The table of chains, an entry at a time. */
class ChainTable {
  constructor(
    private readonly device: BlockDevice,
    private readonly offset: number,
    private readonly length: number,
  ) {}

  async get(cluster: number): Promise<number> {
    if (cluster < FIRST_CLUSTER || (cluster + 1) * 4 > this.length) {
      throw new BadStructure('exFAT chain', this.offset, `it leads to cluster ${cluster}`)
    }
    return viewOf(await readBytes(this.device, this.offset + cluster * 4, 4)).getUint32(0, true)
  }

  async set(cluster: number, value: number): Promise<void> {
    const bytes = new Uint8Array(4)
    viewOf(bytes).setUint32(0, value, true)
    await writeBytes(this.device, this.offset + cluster * 4, bytes)
  }
}

/** The entry of the allocation bitmap in the root directory, with where it stands. */
async function findBitmap(
  device: BlockDevice,
  table: ChainTable,
  rootCluster: number,
  place: (cluster: number) => number,
  clusterSize: number,
  clusterCount: number,
) {
  for (let cluster = rootCluster, seen = 0; cluster !== END_OF_CHAIN && seen <= clusterCount; seen++) {
    const bytes = await readBytes(device, place(cluster), clusterSize)
    for (let at = 0; at < bytes.length && bytes[at] !== ENTRY_END; at += BITMAP_ENTRY.size) {
      if (bytes[at] !== ENTRY_BITMAP) continue
      const entry = bytes.slice(at, at + BITMAP_ENTRY.size)
      const { firstCluster, length } = BITMAP_ENTRY.read(entry)
      const clusters = Math.ceil(length / clusterSize)
      if (length * 8 < clusterCount || firstCluster + clusters > clusterCount + FIRST_CLUSTER) {
        throw new BadStructure('exFAT bitmap', place(cluster) + at, 'it does not cover the volume')
      }
      for (let i = 1; i < clusters; i++) {
        if ((await table.get(firstCluster + i - 1)) !== firstCluster + i) {
          throw new NotSupported('The bitmap of this exFAT volume lies in pieces, so the volume keeps its size.')
        }
      }
      return { at: place(cluster) + at, entry, firstCluster, length }
    }
    cluster = await table.get(cluster)
  }
  throw new BadStructure('exFAT bitmap', place(rootCluster), 'the root directory does not name it')
}
