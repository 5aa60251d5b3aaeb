import { type BlockDevice, type Extent, readBytes } from '../../block/device'
import { MIB } from '../../bytes/size'
import { hasText, utf16ToString } from '../../bytes/struct'
import { BadStructure, orUndefined } from '../../errors'
import type { Finding } from '../../findings'
import { setBitLists } from '../bitmap'
import { entriesBelow, readFileBy, statBy } from '../entries'
import { NoSuchFile } from '../errors'
import { splitPath } from '../path'
import type { Claim, FileSystem, FileSystemDriver, OpenFile } from '../port'
import { logIsOpen } from './clean'
import { type NamedRecord, readDirectory } from './directory'
import { relocateNtfs, resizeNtfs } from './grow'
import {
  ATTRIBUTE_TYPES,
  BOOT_SECTOR,
  FILE_NAME,
  NAMESPACE_DOS,
  recordOf,
  RECORDS,
  VOLUME_DIRTY,
  VOLUME_INFORMATION,
} from './layout'
import { ntfsFiles } from './keep-files'
import { NtfsWriter } from './put-file'
import { type FileRecord, NtfsVolume, type Stream } from './volume'

/** NTFS behind the file-system port. */
export const ntfs: FileSystemDriver = {
  kind: 'ntfs',
  name: 'NTFS',
  async recognise(device) {
    if (device.size < 1024 * 1024) return false
    return hasText(await readBytes(device, 0, 512), 3, 'NTFS    ')
  },
  async claimedBytes(device) {
    const { totalSectors, bytesPerSector } = BOOT_SECTOR.read(await readBytes(device, 0, 512))
    return (totalSectors + 1) * bytesPerSector
  },
  files: ntfsFiles,
  async relabel(device, label) {
    const writer = await NtfsWriter.open(device, 0n)
    await writer.relabel(label)
    await writer.done()
  },
  open: openNtfs,
  resizes: 'both',
  resize: resizeNtfs,
  relocate: relocateNtfs,
}

/** Systems count the clusters of a volume with 32 bits. */
const MOST_CLUSTERS = 2 ** 32 - 1

async function openNtfs(device: BlockDevice): Promise<FileSystem> {
  const volume = await NtfsVolume.open(device)
  const { geometry } = volume
  const volumeRecord = await volume.record(RECORDS.volume)
  const information = volumeRecord.attributes.find((a) => a.type === ATTRIBUTE_TYPES.volumeInformation)?.value
  const nameBytes = volumeRecord.attributes.find((a) => a.type === ATTRIBUTE_TYPES.volumeName)?.value
  if (!information) throw new BadStructure('volume record', volume.recordOffset(RECORDS.volume), 'it names no version')
  const { flags, major, minor } = VOLUME_INFORMATION.read(information)
  const dirty = (flags & VOLUME_DIRTY) !== 0
  const bitmap = await volume.stream(await volume.record(RECORDS.bitmap), ATTRIBUTE_TYPES.data)
  if (!bitmap || bitmap.size * 8 < geometry.totalClusters) {
    throw new BadStructure(
      'cluster bitmap',
      0,
      `it covers ${(bitmap?.size ?? 0) * 8} of ${geometry.totalClusters} clusters`,
    )
  }
  const findings: Finding[] = []
  if (volume.fromMirror) {
    findings.push({
      severity: 'damage',
      code: 'ntfs.mft-mirror-used',
      sentence: 'The first record of the file table is damaged; its copy was used. A check is due before it is copied.',
      evidence: volume.fromMirror,
    })
  }
  if (dirty) {
    findings.push({
      severity: 'caution',
      code: 'ntfs.dirty',
      sentence: 'The volume was not closed cleanly; a file-system check is due before it is copied.',
      evidence: `$Volume flags ${flags.toString(16).padStart(4, '0')}, version ${major}.${minor}`,
    })
  }
  const logOpen = await logIsOpen(volume)
  if (logOpen) {
    findings.push({
      severity: 'caution',
      code: 'ntfs.log-open',
      sentence: 'The log of the volume holds changes that were not carried out; it was in use or not closed cleanly.',
      evidence: '$LogFile names a client that has it open',
    })
  }
  const mapUnsure =
    dirty || logOpen || volume.fromMirror
      ? 'The volume was not closed cleanly, so its map of used clusters may be older than its files.'
      : undefined
  findings.push(...(await backupBootFindings(device, geometry.totalSectors, geometry.sectorSize)))

  async function find(path: string): Promise<NamedRecord> {
    let at: NamedRecord = { name: '', record: RECORDS.root, isDirectory: true, sizeBytes: 0 }
    for (const part of splitPath(path)) {
      if (!at.isDirectory) throw new NoSuchFile(path)
      const upper = part.toUpperCase()
      const names = await readDirectory(volume, await volume.record(at.record))
      const next = names.find((n) => n.name.toUpperCase() === upper)
      if (!next) throw new NoSuchFile(path)
      at = next
    }
    return at
  }

  async function content(path: string): Promise<Stream> {
    const at = await find(path)
    const stream = at.isDirectory
      ? undefined
      : await volume.stream(await volume.record(at.record), ATTRIBUTE_TYPES.data)
    if (!stream) throw new NoSuchFile(path)
    return stream
  }

  async function openFile(path: string): Promise<OpenFile> {
    const { size, read } = await content(path)
    return { read: (offset, length) => read(offset, Math.min(length, Math.max(0, size - offset))) }
  }

  return {
    kind: 'ntfs',
    name: 'NTFS',
    label: nameBytes ? utf16ToString(nameBytes, 0, Math.floor(nameBytes.length / 2)) : '',
    serial: serialText(geometry.serial),
    clusterSize: geometry.clusterSize,
    totalBytes: geometry.totalSectors * geometry.sectorSize,
    mostBytes: MOST_CLUSTERS * geometry.clusterSize,
    state: mapUnsure ? 'dirty' : 'clean',
    depth: 'files',
    findings,
    shrunk(usedBytes) {
      // Moving clusters splits runs, and the longer lists of runs need records of their own.
      // In the worst case every cluster that moves is a run of its own, some 150 of which go into a record.
      const listing = (usedBytes / geometry.clusterSize / 150) * (geometry.recordSize + 32)
      const margin = Math.max(MIB, Math.ceil(usedBytes / 100 + listing))
      const bytes = Math.ceil((usedBytes + margin) / geometry.clusterSize) * geometry.clusterSize
      return {
        bytes: Math.min(geometry.totalSectors * geometry.sectorSize, bytes),
        margin: 'some room stays free for the file table, which grows while files move',
      }
    },
    ...(mapUnsure ? { mapUnsure } : {}),
    async *metadata(): AsyncIterable<Extent> {
      for (const { lcn, length } of [...volume.tableRuns, ...bitmap.runs]) {
        if (lcn !== null) yield { offset: lcn * geometry.clusterSize, length: length * geometry.clusterSize }
      }
    },
    claims: () => claimsOf(volume),
    usedExtents: () => usedExtents(geometry, bitmap, device.size),
    async list(path) {
      const at = await find(path)
      if (!at.isDirectory) throw new NoSuchFile(path)
      const names = await readDirectory(volume, await volume.record(at.record))
      return entriesBelow(
        path,
        names.filter((n) => n.record >= RECORDS.firstUser),
      )
    },
    stat: (path) => statBy(find, path),
    async fileExtents(path) {
      const stream = await content(path)
      return stream.runs
        .filter((run) => run.lcn !== null)
        .map((run) => ({ offset: run.lcn! * geometry.clusterSize, length: run.length * geometry.clusterSize }))
    },
    openFile,
    readFile: readFileBy(openFile),
  }
}

async function* usedExtents(
  { clusterSize, totalClusters }: NtfsVolume['geometry'],
  bitmap: Stream,
  deviceSize: number,
): AsyncGenerator<Extent> {
  const clustersEnd = totalClusters * clusterSize
  for await (const runs of setBitLists((offset, into) => bitmap.fill(offset, into), totalClusters)) {
    for (const run of runs) yield { offset: run.offset * clusterSize, length: run.length * clusterSize }
  }
  // Sectors behind the last cluster hold the copy of the boot sector, which no bitmap covers.
  if (deviceSize > clustersEnd) yield { offset: clustersEnd, length: deviceSize - clustersEnd }
}

/** Every run of every attribute, record by record; the list of bad clusters is no use of them. */
async function* claimsOf(volume: NtfsVolume): AsyncGenerator<Claim> {
  const { clusterSize } = volume.geometry
  for await (const record of volume.usedRecords()) {
    const extents: Extent[] = []
    for (const { placed, name } of record.attributes) {
      if (record.number === RECORDS.badClusters && name === '$Bad') continue
      for (const { lcn, length } of placed?.runs ?? []) {
        if (lcn !== null) extents.push({ offset: lcn * clusterSize, length: length * clusterSize })
      }
    }
    if (extents.length > 0) yield { extents, name: () => pathOf(volume, record) }
  }
}

/** The path of the file that a record belongs to, as far as its names lead up to the root. */
async function pathOf(volume: NtfsVolume, record: FileRecord): Promise<string> {
  const parts: string[] = []
  let number = record.header.baseRecord === 0n ? record.number : recordOf(record.header.baseRecord)
  for (let depth = 0; number !== RECORDS.root && depth < 64; depth++) {
    const at = await volume.record(number).catch(orUndefined)
    const names = at?.attributes.filter((a) => a.type === ATTRIBUTE_TYPES.fileName && a.value) ?? []
    const key = names.map((a) => a.value!).find((v) => FILE_NAME.read(v).namespace !== NAMESPACE_DOS) ?? names[0]?.value
    if (!key) return `record ${record.number}`
    const { nameLength, parent } = FILE_NAME.read(key)
    parts.unshift(utf16ToString(key, FILE_NAME.size, nameLength))
    number = recordOf(parent)
  }
  return `/${parts.join('/')}`
}

async function backupBootFindings(device: BlockDevice, totalSectors: number, sectorSize: number): Promise<Finding[]> {
  const at = totalSectors * sectorSize
  if (at + sectorSize > device.size) return []
  const first = await readBytes(device, 0, 512)
  // A copy that does not read, or was cut off, is looked for by whoever needs it.
  const copy = await readBytes(device, at, 512).catch(orUndefined)
  if (!copy) return []
  if (first.every((byte, i) => byte === copy[i])) return []
  return [
    {
      severity: 'caution',
      code: 'ntfs.backup-boot-differs',
      sentence: 'The copy of the boot sector at the end of the volume differs from the first.',
      evidence: `Sector ${totalSectors} of the volume`,
    },
  ]
}

function serialText(serial: bigint): string {
  const hex = serial.toString(16).toUpperCase().padStart(16, '0')
  return `${hex.slice(0, 4)}-${hex.slice(4, 8)}-${hex.slice(8, 12)}-${hex.slice(12)}`
}
