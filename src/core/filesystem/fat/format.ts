import { type BlockDevice, writeBytes } from '../../block/device'
import { viewOf } from '../../bytes/struct'
import { CoreError } from '../../errors'
import { buildTree, type NewFile, type TreeNode } from '../new-files'
import {
  ATTRIBUTE_ARCHIVE,
  ATTRIBUTE_DIRECTORY,
  ATTRIBUTE_VOLUME,
  BOOT_SECTOR,
  ENTRY_MASK,
  FAT32_MIN_CLUSTERS,
  FIRST_CLUSTER,
  INFORMATION_SECTOR,
} from './layout'
import { entryRow, nameRows, withPlace } from './rows'

/** What a new volume is to be. */
export interface FatFormat {
  readonly label: string
  readonly serial: number
  /** Sector of the drive where the volume will start. */
  readonly startSector: number
  readonly files: readonly NewFile[]
  readonly dirty?: boolean
}

const RESERVED_SECTORS = 32
const FAT_COUNT = 2
const SECTOR = 512

/** Makes a FAT32 volume with these files on a device. Throws CoreError when it does not fit. */
export async function formatFat32(device: BlockDevice, format: FatFormat): Promise<void> {
  if (device.logicalSectorSize !== SECTOR) throw new CoreError('A new FAT32 volume is only made with 512-byte sectors.')
  const shape = shapeFor(device.size)
  const fat = new Uint32Array(shape.clusterCount + FIRST_CLUSTER)
  fat[0] = 0x0ffffff8
  fat[1] = format.dirty ? 0x07ffffff : 0x0fffffff
  const clusterSize = shape.sectorsPerCluster * SECTOR
  const dataOffset = (RESERVED_SECTORS + FAT_COUNT * shape.fatSectors) * SECTOR
  let next = FIRST_CLUSTER

  const allocate = (bytes: number): number => {
    const count = Math.ceil(bytes / clusterSize)
    if (count === 0) return 0
    const first = next
    next += count
    if (next > fat.length) throw new CoreError('The files do not fit on the FAT32 volume.')
    for (let i = 0; i < count; i++) fat[first + i] = i === count - 1 ? ENTRY_MASK[32] : first + i + 1
    return first
  }
  const put = async (cluster: number, bytes: Uint8Array) => {
    if (cluster > 0) await writeBytes(device, dataOffset + (cluster - FIRST_CLUSTER) * clusterSize, bytes)
  }

  /** Writes a directory and all below it; gives its first cluster. */
  async function writeDirectory(node: TreeNode, parent: number, label?: string): Promise<number> {
    const children = [...node.children!.values()]
    const shortNames = new Set<string>()
    const named = children.map((child) => ({ child, rows: nameRows(child.name, shortNames) }))
    const own = label === undefined ? 2 : 1
    const rowCount = own + named.reduce((sum, { rows }) => sum + rows.length, 0)
    // Whole clusters: what stood there before would be read as more entries.
    const bytes = new Uint8Array(Math.ceil((rowCount * 32) / clusterSize) * clusterSize)
    const first = allocate(bytes.length)
    let at = 0
    const add = (row: Uint8Array) => (bytes.set(row, at), (at += 32))
    if (label !== undefined) add(entryRow(label.padEnd(11).slice(0, 11), ATTRIBUTE_VOLUME, 0, 0))
    else {
      add(entryRow('.'.padEnd(11), ATTRIBUTE_DIRECTORY, first, 0))
      add(entryRow('..'.padEnd(11), ATTRIBUTE_DIRECTORY, parent, 0))
    }
    for (const { child, rows } of named) {
      let cluster = 0
      let size = 0
      if (child.children) {
        // A directory directly below the root names its parent with 0.
        cluster = await writeDirectory(child, label === undefined ? first : 0)
      } else if (child.file && 'content' in child.file) {
        size = child.file.content.length
        cluster = allocate(size)
        await put(cluster, child.file.content)
      } else throw new CoreError('A FAT32 volume takes files with content only.')
      rows.slice(0, -1).forEach(add)
      add(withPlace(rows.at(-1)!, child.children ? ATTRIBUTE_DIRECTORY : ATTRIBUTE_ARCHIVE, cluster, size))
    }
    await put(first, bytes)
    return first
  }

  const rootCluster = await writeDirectory(buildTree(format.files), 0, format.label.toUpperCase())
  const table = new Uint8Array(shape.fatSectors * SECTOR)
  const entries = viewOf(table)
  fat.forEach((entry, i) => entries.setUint32(i * 4, entry, true))
  for (let copy = 0; copy < FAT_COUNT; copy++) {
    await device.write((RESERVED_SECTORS + copy * shape.fatSectors) * SECTOR, table)
  }
  await device.write(0, new Uint8Array(RESERVED_SECTORS * SECTOR))
  await writeBootArea(device, format, shape, rootCluster, fat.length - next, next)
  await device.flush()
}

interface Shape {
  readonly sectorsPerCluster: number
  readonly fatSectors: number
  readonly clusterCount: number
}

/** The largest cluster, up to 4 KiB, with which a volume of this size is still FAT32. */
function shapeFor(size: number): Shape {
  for (const sectorsPerCluster of [8, 4, 2, 1]) {
    const sectors = size / SECTOR - RESERVED_SECTORS
    const fatSectors = Math.ceil(((Math.floor(sectors / sectorsPerCluster) + FIRST_CLUSTER) * 4) / SECTOR)
    const clusterCount = Math.floor((sectors - FAT_COUNT * fatSectors) / sectorsPerCluster)
    if (clusterCount >= FAT32_MIN_CLUSTERS) return { sectorsPerCluster, fatSectors, clusterCount }
  }
  throw new CoreError('A FAT32 volume needs at least 33 MiB.')
}

async function writeBootArea(
  device: BlockDevice,
  format: FatFormat,
  shape: Shape,
  rootCluster: number,
  freeClusters: number,
  nextFree: number,
): Promise<void> {
  const boot = new Uint8Array(SECTOR)
  BOOT_SECTOR.write(boot, {
    jump: Uint8Array.of(0xeb, 0x58, 0x90),
    oemName: 'IMBARCO ',
    bytesPerSector: SECTOR,
    sectorsPerCluster: shape.sectorsPerCluster,
    reservedSectors: RESERVED_SECTORS,
    fatCount: FAT_COUNT,
    media: 0xf8,
    sectorsPerTrack: 63,
    heads: 255,
    hiddenSectors: format.startSector,
    totalSectors: device.size / SECTOR,
    fatSectors: shape.fatSectors,
    rootCluster,
    informationSector: 1,
    backupBootSector: 6,
    driveNumber: 0x80,
    bootSignature: 0x29,
    serial: format.serial,
    label: format.label.toUpperCase().padEnd(11),
    typeName: 'FAT32   ',
    signature: 0xaa55,
  })
  const information = new Uint8Array(SECTOR)
  INFORMATION_SECTOR.write(information, {
    leadSignature: 0x41615252,
    structSignature: 0x61417272,
    freeClusters,
    nextFree,
    trailSignature: 0xaa550000,
  })
  for (const at of [0, 6]) {
    await device.write(at * SECTOR, boot)
    await device.write((at + 1) * SECTOR, information)
  }
}
