import { type BlockDevice, type Extent, readBytes } from '../../block/device'
import { viewOf } from '../../bytes/struct'
import type { Finding } from '../../findings'
import { entriesBelow, statBy } from '../entries'
import { NoSuchFile } from '../errors'
import { splitPath } from '../path'
import type { FileSystem, FileSystemDriver } from '../port'
import { type FatEntry, parseDirectory } from './directory'
import { BOOT_SECTOR, CLEAN_BIT, ENTRY_MASK, FIRST_CLUSTER, NO_ERROR_BIT } from './layout'
import { FatVolume, readFatGeometry } from './volume'

/** FAT32 behind the file-system port. */
export const fat: FileSystemDriver = {
  kind: 'fat32',
  async recognise(device) {
    if (device.size < 512 * 1024) return false
    const bytes = await readBytes(device, 0, 512)
    const boot = BOOT_SECTOR.read(bytes)
    // FAT32 is the one without 16-bit counts; the name in the sector is only a comment.
    const jump = bytes[0] === 0xeb || bytes[0] === 0xe9
    const wide = boot.fatSectors16 === 0 && boot.rootEntries === 0 && boot.totalSectors16 === 0 && boot.fatSectors > 0
    return jump && boot.signature === 0xaa55 && wide && boot.fatCount > 0 && boot.reservedSectors > 0
  },
  open: openFat,
  relocate: relocateFat,
}

/** Tells a volume at which sector of the drive it starts, in the boot sector and its copy. */
export async function relocateFat(device: BlockDevice, startSector: number): Promise<void> {
  const boot = new Uint8Array(await readBytes(device, 0, device.logicalSectorSize))
  const { backupBootSector } = BOOT_SECTOR.read(boot)
  BOOT_SECTOR.write(boot, { hiddenSectors: startSector })
  await device.write(0, boot)
  if (backupBootSector > 0 && backupBootSector < 32) await device.write(backupBootSector * boot.length, boot)
}

async function openFat(device: BlockDevice): Promise<FileSystem> {
  const geometry = await readFatGeometry(device)
  const volume = new FatVolume(device, geometry)
  const state = await volume.stateEntry()
  const dirty = (state & CLEAN_BIT) === 0
  const findings: Finding[] = []
  if (dirty || (state & NO_ERROR_BIT) === 0) {
    findings.push({
      severity: 'caution',
      code: 'fat.dirty',
      sentence: dirty ? 'The volume was not closed cleanly.' : 'The system noted a read or write error on this volume.',
      evidence: `Second table entry ${(state >>> 0).toString(16).padStart(8, '0')}`,
    })
  }
  const root: FatEntry = { name: '', isDirectory: true, firstCluster: geometry.rootCluster, sizeBytes: 0 }
  const rootDirectory = await readDirectory(root, '/')

  async function readDirectory(entry: FatEntry, path: string) {
    const clusters = await volume.chain(entry.firstCluster || geometry.rootCluster, `the directory ${path}`)
    // The specification limits a directory to 2 MiB; more is damage.
    return parseDirectory(await volume.readChain(clusters, 0, 2 * 1024 * 1024))
  }

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

  return {
    kind: 'fat32',
    name: 'FAT32',
    label: rootDirectory.label ?? (geometry.label === 'NO NAME' ? '' : geometry.label),
    serial: serialText(geometry.serial),
    clusterSize: geometry.clusterSize,
    totalBytes: geometry.totalBytes,
    state: dirty ? 'dirty' : 'clean',
    findings,
    usedExtents: () => usedExtents(device, geometry),
    async list(path) {
      const at = await find(path)
      if (!at.isDirectory) throw new NoSuchFile(path)
      return entriesBelow(path, (await readDirectory(at, path)).entries)
    },
    stat: (path) => statBy(find, path),
    async readFile(path, offset = 0, length = Number.MAX_SAFE_INTEGER) {
      const at = await find(path)
      if (at.isDirectory) throw new NoSuchFile(path)
      if (at.sizeBytes === 0) return new Uint8Array()
      const clusters = await volume.chain(at.firstCluster, path)
      return volume.readChain(clusters, offset, Math.min(length, Math.max(0, at.sizeBytes - offset)))
    },
  }
}

/** Boot area and tables, then each run of clusters whose table entry is not free. */
async function* usedExtents(device: BlockDevice, geometry: FatVolume['geometry']): AsyncGenerator<Extent> {
  const { fatOffset, dataOffset, clusterSize, clusterCount, totalBytes } = geometry
  yield { offset: 0, length: dataOffset }
  const piece = 1024 * 1024
  const entries = clusterCount + FIRST_CLUSTER
  let start = -1
  const at = (cluster: number) => dataOffset + (cluster - FIRST_CLUSTER) * clusterSize
  for (let from = 0; from < entries * 4; from += piece) {
    const view = viewOf(await readBytes(device, fatOffset + from, Math.min(piece, entries * 4 - from)))
    for (let i = 0; i < view.byteLength; i += 4) {
      const cluster = (from + i) / 4
      const used = cluster >= FIRST_CLUSTER && (view.getUint32(i, true) & ENTRY_MASK) !== 0
      if (used && start < 0) start = cluster
      if (!used && start >= 0) {
        yield { offset: at(start), length: at(cluster) - at(start) }
        start = -1
      }
    }
  }
  if (start >= 0) yield { offset: at(start), length: at(entries) - at(start) }
  if (device.size > totalBytes) yield { offset: totalBytes, length: device.size - totalBytes }
}

function serialText(serial: number): string {
  const hex = serial.toString(16).toUpperCase().padStart(8, '0')
  return `${hex.slice(0, 4)}-${hex.slice(4)}`
}
