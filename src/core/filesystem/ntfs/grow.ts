import { type BlockDevice, readBytes } from '../../block/device'
import { alignUp } from '../../bytes/size'
import { MovedDevice } from '../../block/moved'
import { OverlayDevice } from '../../block/overlay'
import { CoreError, NotSupported } from '../../errors'
import { setBits } from '../bitmap'
import { refuseUnclean } from './clean'
import { ATTRIBUTE_TYPES, BOOT_SECTOR, RECORDS } from './layout'
import { shrinkNtfs } from './shrink'
import { nonResidentAttribute, replaceAttribute } from './records'
import { clustersOf, joinRuns, type Run, writeRuns } from './runs'
import { FileTableWriter } from './file-table-writer'
import { type Attribute, type FileRecord, NtfsVolume, readGeometry } from './volume'

const PIECE = 1024 * 1024

/**
 * Makes an NTFS volume fill a larger device: $Bitmap covers the new clusters (taking clusters of its own
 * from the new room), $BadClus spans them, the boot sector and its copy name the new size. Files and
 * directories stay where they are. Throws CoreError when the volume is not clean or its records cannot
 * take the change.
 */
export async function growNtfs(device: BlockDevice): Promise<void> {
  const volume = await NtfsVolume.open(device)
  const { geometry } = volume
  const { clusterSize, sectorSize, totalClusters: oldClusters } = geometry
  await refuseUnclean(volume, 'is not grown')
  // The very last sector stays outside the volume: it takes the copy of the boot sector.
  const totalSectors = device.size / sectorSize - 1
  const newClusters = Math.floor(totalSectors / (clusterSize / sectorSize))
  if (newClusters <= oldClusters) return writeBootSectors(device, totalSectors, sectorSize)
  const table = await FileTableWriter.of(volume)
  await growBitmap(volume, table, oldClusters, newClusters)
  await growBadClusters(volume, table, newClusters)
  await table.refreshMirror()
  await writeBootSectors(device, totalSectors, sectorSize)
}

/** The volume on `size` bytes, more or fewer than it has. Throws as growing and shrinking do. */
export async function resizeNtfs(device: BlockDevice, size: number): Promise<BlockDevice> {
  const { totalClusters, totalSectors, clusterSize, sectorSize } = await readGeometry(device)
  if (Math.floor((size - sectorSize) / clusterSize) < totalClusters) return shrinkNtfs(device, size)
  if (size >= device.size) {
    const overlay = new OverlayDevice(device, size)
    await growNtfs(overlay)
    return overlay
  }
  // The clusters fit as they are: only what lies behind the last one, or behind the volume, is cut off.
  await refuseUnclean(await NtfsVolume.open(device), 'is not made smaller')
  const overlay = new OverlayDevice(new MovedDevice(device, size, []))
  await writeBootSectors(overlay, Math.min(totalSectors, size / sectorSize - 1), sectorSize)
  return overlay
}

/** Tells a volume at which sector of the drive it starts, in the boot sector and its copy. */
export async function relocateNtfs(device: BlockDevice, startSector: number): Promise<void> {
  const boot = new Uint8Array(await readBytes(device, 0, device.logicalSectorSize))
  const { totalSectors, bytesPerSector } = BOOT_SECTOR.read(boot)
  BOOT_SECTOR.write(boot, { hiddenSectors: startSector })
  await device.write(0, boot)
  const copyAt = totalSectors * bytesPerSector
  if (copyAt + boot.length <= device.size) await device.write(copyAt, boot)
}

async function growBitmap(
  volume: NtfsVolume,
  table: FileTableWriter,
  oldClusters: number,
  newClusters: number,
): Promise<void> {
  const { clusterSize } = volume.geometry
  const record = await volume.record(RECORDS.bitmap)
  const attribute = placedAttribute(record, '')
  const runs = attribute.placed!.runs
  // The system keeps the bitmap's length a multiple of eight bytes.
  const newBytes = alignUp(Math.ceil(newClusters / 8), 8)
  const have = clustersOf(runs)
  const extra = Math.max(0, Math.ceil(newBytes / clusterSize) - have)
  if (oldClusters + extra > newClusters) throw new CoreError('The added room is too small to hold the larger bitmap.')
  const newRuns = extra > 0 ? joinRuns([...runs, { lcn: oldClusters, length: extra }]) : [...runs]
  const firstByte = Math.floor(oldClusters / 8)
  for (let from = firstByte; from < newBytes; from += PIECE) {
    const piece = new Uint8Array(Math.min(PIECE, newBytes - from))
    if (from === firstByte && firstByte * 8 < oldClusters) {
      piece[0] = (await readBytes(volume.device, placeOf(newRuns, from, clusterSize), 1))[0]
    }
    const firstBit = from * 8
    const endBit = firstBit + piece.length * 8
    // Bits behind the old end were set as "not there"; they are room now, but for the bitmap's own.
    markRange(piece, firstBit, endBit, oldClusters, newClusters, false)
    markRange(piece, firstBit, endBit, oldClusters, oldClusters + extra, true)
    markRange(piece, firstBit, endBit, newClusters, newBytes * 8, true)
    await writeRuns(volume.device, newRuns, clusterSize, piece, from)
  }
  const placed = {
    runs: newRuns,
    allocatedSize: (have + extra) * clusterSize,
    dataSize: newBytes,
    initializedSize: newBytes,
  }
  const replacement = nonResidentAttribute({ type: ATTRIBUTE_TYPES.data, id: attribute.id }, placed)
  await table.write(record.number, replaceAttribute(record, attribute, replacement))
}

async function growBadClusters(volume: NtfsVolume, table: FileTableWriter, newClusters: number): Promise<void> {
  const { clusterSize } = volume.geometry
  const record = await volume.record(RECORDS.badClusters)
  const attribute = placedAttribute(record, '$Bad')
  const covered = clustersOf(attribute.placed!.runs)
  const runs = joinRuns([...attribute.placed!.runs, { lcn: null, length: newClusters - covered }])
  const size = newClusters * clusterSize
  const replacement = nonResidentAttribute(
    { type: ATTRIBUTE_TYPES.data, name: '$Bad', id: attribute.id, flags: attribute.flags },
    { runs, allocatedSize: size, dataSize: size, initializedSize: attribute.placed!.initializedSize },
  )
  await table.write(record.number, replaceAttribute(record, attribute, replacement))
}

async function writeBootSectors(device: BlockDevice, totalSectors: number, sectorSize: number): Promise<void> {
  const boot = new Uint8Array(await readBytes(device, 0, sectorSize))
  BOOT_SECTOR.write(boot, { totalSectors })
  await device.write(0, boot)
  await device.write(totalSectors * sectorSize, boot)
}

function placedAttribute(record: FileRecord, name: string): Attribute {
  if (record.attributes.some((a) => a.type === ATTRIBUTE_TYPES.attributeList)) {
    throw new NotSupported('The records of this volume are too scattered to be grown; it keeps its size.')
  }
  const attribute = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.data && a.name === name)
  if (!attribute?.placed) throw new NotSupported('This volume keeps its bitmap in an unusual place and keeps its size.')
  return attribute
}

function markRange(piece: Uint8Array, firstBit: number, endBit: number, from: number, to: number, set: boolean): void {
  const start = Math.max(firstBit, from)
  const end = Math.min(endBit, to)
  if (start < end) setBits(piece, start - firstBit, end - start, set)
}

function placeOf(runs: readonly Run[], offset: number, clusterSize: number): number {
  let start = 0
  for (const { lcn, length } of runs) {
    if (offset < start + length * clusterSize) return lcn! * clusterSize + offset - start
    start += length * clusterSize
  }
  throw new CoreError('The bitmap is shorter than the volume it describes.')
}
