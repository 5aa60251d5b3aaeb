import { LRUCache } from 'lru-cache'
import { type BlockDevice, type Extent, readBytes } from '../../block/device'
import { formatSize } from '../../bytes/size'
import { viewOf } from '../../bytes/struct'
import { BadStructure } from '../../errors'
import type { Finding } from '../../findings'
import { entriesBelow, readFileBy, statBy } from '../entries'
import { NoSuchFile } from '../errors'
import { splitPath } from '../path'
import type { FileSystem, FileSystemDriver, OpenFile } from '../port'
import { chainExtents, runExtents } from '../runs'
import { type FatEntry, parseDirectory } from './directory'
import {
  BOOT_SECTOR,
  CLEAN_BIT,
  ENTRY_MASK,
  FIRST_CLUSTER,
  MAX_DIRECTORY_BYTES,
  NO_ERROR_BIT,
  STATE_DIRTY,
} from './layout'
import { fatFiles } from './keep-files'
import { FatWriter } from './put-file'
import { mostFatBytes, resizeFat } from './resize'
import { FatVolume, readFatGeometry } from './volume'

const KEPT_DIRECTORIES = 16

/** FAT12, FAT16 and FAT32 behind the file-system port. */
export const fat: FileSystemDriver = {
  kind: 'fat',
  async relabel(device, label) {
    const writer = await FatWriter.open(device)
    await writer.relabel(label)
    await writer.done()
  },
  name: 'FAT',
  async recognise(device) {
    if (device.size < 64 * 1024) return false
    const bytes = await readBytes(device, 0, 512)
    const boot = BOOT_SECTOR.read(bytes)
    const jump = bytes[0] === 0xeb || bytes[0] === 0xe9
    const sectors = boot.totalSectors16 || boot.totalSectors
    const sizes = [512, 1024, 2048, 4096].includes(boot.bytesPerSector) && boot.sectorsPerCluster > 0 && sectors > 0
    const tables = boot.fatCount > 0 && boot.fatCount <= 2 && boot.reservedSectors > 0
    return jump && boot.signature === 0xaa55 && sizes && tables && (boot.media >= 0xf8 || boot.media === 0xf0)
  },
  async claimedBytes(device) {
    const { totalSectors, totalSectors16, bytesPerSector } = BOOT_SECTOR.read(await readBytes(device, 0, 512))
    return (totalSectors16 || totalSectors) * bytesPerSector
  },
  files: fatFiles,
  open: openFat,
  relocate: relocateFat,
  resizes: 'both',
  resize: resizeFat,
}

/** Tells a volume at which sector of the drive it starts, in the boot sector and its copy. */
export async function relocateFat(device: BlockDevice, startSector: number): Promise<void> {
  const boot = new Uint8Array(await readBytes(device, 0, device.logicalSectorSize))
  const { backupBootSector, fatSectors16 } = BOOT_SECTOR.read(boot)
  BOOT_SECTOR.write(boot, { hiddenSectors: startSector })
  await device.write(0, boot)
  const hasCopy = fatSectors16 === 0 && backupBootSector > 0 && backupBootSector < 32
  if (hasCopy) await device.write(backupBootSector * boot.length, boot)
}

async function openFat(device: BlockDevice): Promise<FileSystem> {
  const geometry = await readFatGeometry(device)
  const { bits, clusterSize } = geometry
  const volume = new FatVolume(device, geometry)
  const state = await volume.stateEntry()
  const dirty = (geometry.stateByte & STATE_DIRTY) !== 0 || (state & CLEAN_BIT[bits]) !== CLEAN_BIT[bits]
  const findings: Finding[] = []
  if (dirty || (state & NO_ERROR_BIT[bits]) !== NO_ERROR_BIT[bits]) {
    findings.push({
      severity: 'caution',
      code: 'fat.dirty',
      sentence: dirty ? 'The volume was not closed cleanly.' : 'The system noted a read or write error on this volume.',
      evidence: `Second table entry ${(state >>> 0).toString(16).padStart(bits / 4, '0')}, state byte ${geometry.stateByte}`,
    })
  }
  const root: FatEntry = { name: '', isDirectory: true, firstCluster: geometry.rootCluster, sizeBytes: 0, rowAt: 0 }

  /** Directories by their first cluster: those that were read last, since files are looked up one after the other. */
  const known = new LRUCache<number, ReturnType<typeof parseDirectory>>({ max: KEPT_DIRECTORIES })
  async function readDirectory(entry: FatEntry, path: string) {
    const first = entry.firstCluster || geometry.rootCluster
    const kept = known.get(first) ?? (await parseAt(first, path))
    known.set(first, kept)
    return kept
  }

  async function parseAt(first: number, path: string) {
    if (first === 0) return parseDirectory(await readBytes(device, geometry.rootOffset, geometry.rootBytes))
    const most = Math.ceil(MAX_DIRECTORY_BYTES / clusterSize)
    const clusters = await volume.chain(first, `the directory ${path}`, most, true)
    return parseDirectory(await volume.readChain(clusters, 0, MAX_DIRECTORY_BYTES))
  }

  const rootDirectory = await readDirectory(root, '/')

  async function find(path: string): Promise<FatEntry> {
    let at = root
    for (const part of splitPath(path)) {
      if (!at.isDirectory) throw new NoSuchFile(path)
      const { entries } = at === root ? rootDirectory : await readDirectory(at, path)
      const next = entries.find((e) => e.name.toUpperCase() === part.toUpperCase())
      if (!next) throw new NoSuchFile(path)
      at = next
    }
    return at
  }

  async function findFile(path: string): Promise<FatEntry> {
    const at = await find(path)
    if (at.isDirectory) throw new NoSuchFile(path)
    return at
  }

  /** The clusters of a file up to that byte of it. */
  async function clustersOf(at: FatEntry, path: string, end: number) {
    const needed = Math.ceil(Math.max(0, Math.min(at.sizeBytes, end)) / clusterSize)
    const clusters = needed === 0 ? [] : await volume.chain(at.firstCluster, path, needed)
    if (clusters.length < needed) {
      throw new BadStructure('FAT chain', geometry.fatOffset, `${path} breaks off after ${clusters.length} clusters`)
    }
    return clusters
  }

  async function openFile(path: string): Promise<OpenFile> {
    const at = await findFile(path)
    return {
      async read(offset, length) {
        const clusters = await clustersOf(at, path, offset + length)
        return volume.readChain(clusters, offset, Math.min(length, Math.max(0, at.sizeBytes - offset)))
      },
    }
  }

  return {
    kind: `fat${bits}`,
    name: `FAT${bits}`,
    label: rootDirectory.label ?? (geometry.label === 'NO NAME' ? '' : geometry.label),
    serial: serialText(geometry.serial),
    clusterSize,
    totalBytes: geometry.totalBytes,
    mostBytes: mostFatBytes(geometry),
    state: dirty ? 'dirty' : 'clean',
    depth: 'files',
    findings,
    clusterOrigin: geometry.dataOffset,
    async *claims() {
      const directories = [{ entry: root, path: '' }]
      for (let at = 0; at < directories.length && at < geometry.clusterCount; at++) {
        const { entry: directory, path } = directories[at]
        const { entries } = directory === root ? rootDirectory : await readDirectory(directory, path)
        for (const entry of entries) {
          const own = `${path}/${entry.name}`
          const clusters = await volume.chainAsFarAsItLeads(entry.firstCluster)
          const extents = [...chainExtents(clusters, (cluster) => volume.offsetOf(cluster), clusterSize)]
          yield { extents, name: async () => own }
          if (entry.isDirectory) directories.push({ entry, path: own })
        }
      }
    },
    async *metadata() {
      yield { offset: 0, length: geometry.dataOffset }
      const directories = [root]
      for (let at = 0; at < directories.length && at < geometry.clusterCount; at++) {
        const entry = directories[at]
        const first = entry.firstCluster || geometry.rootCluster
        if (first !== 0) {
          const most = Math.ceil(MAX_DIRECTORY_BYTES / clusterSize)
          const clusters = await volume.chain(first, 'a directory', most, true)
          yield* chainExtents(clusters, (cluster) => volume.offsetOf(cluster), clusterSize)
        }
        const { entries } = entry === root ? rootDirectory : await readDirectory(entry, 'a directory')
        directories.push(...entries.filter((e) => e.isDirectory))
      }
    },
    usedExtents: () => usedExtents(device, volume),
    shrunk(usedBytes) {
      const least = bits === 12 ? 0 : geometry.dataOffset + (bits === 16 ? 4085 : 65525) * clusterSize
      const bytes = Math.min(geometry.totalBytes, Math.max(usedBytes + clusterSize, least))
      const margin =
        bytes === least
          ? `a FAT${bits} with clusters of ${formatSize(clusterSize)} has at least that many of them`
          : 'one cluster stays free'
      return { bytes, margin }
    },
    async list(path) {
      const at = await find(path)
      if (!at.isDirectory) throw new NoSuchFile(path)
      return entriesBelow(path, (await readDirectory(at, path)).entries)
    },
    stat: (path) => statBy(find, path),
    openFile,
    readFile: readFileBy(openFile),
    async fileExtents(path) {
      const at = await findFile(path)
      const clusters = await clustersOf(at, path, at.sizeBytes)
      return chainExtents(clusters, (cluster) => volume.offsetOf(cluster), clusterSize)
    },
  }
}

/** Boot area, tables and a fixed root directory, then each run of clusters whose table entry is not free. */
async function* usedExtents(device: BlockDevice, volume: FatVolume): AsyncGenerator<Extent> {
  const { bits, fatOffset, dataOffset, clusterSize, clusterCount, totalBytes } = volume.geometry
  yield { offset: 0, length: dataOffset }
  const entries = clusterCount + FIRST_CLUSTER
  async function* used(): AsyncGenerator<readonly [number, boolean]> {
    if (bits === 12) {
      for (let cluster = FIRST_CLUSTER; cluster < entries; cluster++)
        yield [cluster, (await volume.entry(cluster)) !== 0]
      return
    }
    const width = bits / 8
    const piece = 1024 * 1024
    for (let from = 0; from < entries * width; from += piece) {
      const view = viewOf(await readBytes(device, fatOffset + from, Math.min(piece, entries * width - from)))
      // Runs are told of by their edges: a yield for every cluster would cost more than reading them.
      let was: boolean | undefined
      for (let i = 0; i < view.byteLength; i += width) {
        const value = width === 2 ? view.getUint16(i, true) : view.getUint32(i, true)
        const now = (value & ENTRY_MASK[bits]) !== 0
        if (now !== was && (from + i) / width >= FIRST_CLUSTER) yield [(from + i) / width, (was = now)]
      }
    }
  }
  yield* runExtents(used(), entries, (cluster) => dataOffset + (cluster - FIRST_CLUSTER) * clusterSize)
  if (device.size > totalBytes) yield { offset: totalBytes, length: device.size - totalBytes }
}

function serialText(serial: number): string {
  const hex = serial.toString(16).toUpperCase().padStart(8, '0')
  return `${hex.slice(0, 4)}-${hex.slice(4)}`
}
