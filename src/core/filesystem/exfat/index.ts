import { type BlockDevice, readBytes, readInto } from '../../block/device'
import { hasText, viewOf } from '../../bytes/struct'
import { BadStructure } from '../../errors'
import type { Finding } from '../../findings'
import { allocate } from '../allocate'
import { setBitRuns } from '../bitmap'
import { entriesBelow, readFileBy, statBy } from '../entries'
import { NoSuchFile } from '../errors'
import { splitPath } from '../path'
import type { FileSystem, FileSystemDriver, OpenFile } from '../port'
import { chainExtents } from '../runs'
import { type ExfatEntry, type ExfatStream, parseExfatDirectory } from './directory'
import {
  BAD_CLUSTER,
  END_OF_CHAIN,
  EXFAT_BOOT,
  FIRST_CLUSTER,
  FLAG_DIRTY,
  FLAG_MEDIA_FAILURE,
  MAX_DIRECTORY_BYTES,
} from './layout'
import { exfatFiles, ExfatWriter } from './keep-files'
import { mostExfatBytes, relocateExfat, resizeExfat } from './resize'

/** exFAT behind the file-system port. */
export const exfat: FileSystemDriver = {
  kind: 'exfat',
  async relabel(device, label) {
    const writer = await ExfatWriter.open(device)
    await writer.relabel(label)
    await writer.done()
  },
  name: 'exFAT',
  async recognise(device) {
    if (device.size < 512 * 1024) return false
    const bytes = await readBytes(device, 0, 512)
    return hasText(bytes, 3, 'EXFAT   ')
  },
  async claimedBytes(device) {
    const { volumeSectors, sectorShift } = EXFAT_BOOT.read(await readBytes(device, 0, 512))
    return sectorShift >= 9 && sectorShift <= 12 ? volumeSectors * 2 ** sectorShift : undefined
  },
  files: exfatFiles,
  open: openExfat,
  relocate: relocateExfat,
  resizes: 'grows',
  resize: resizeExfat,
}

async function openExfat(device: BlockDevice): Promise<FileSystem> {
  const geometry = await readGeometry(device)
  const { clusterSize, clusterCount, heapOffset, totalBytes, flags } = geometry
  const offsetOf = (cluster: number) => heapOffset + (cluster - FIRST_CLUSTER) * clusterSize
  const root: ExfatEntry = {
    name: '',
    isDirectory: true,
    firstCluster: geometry.rootCluster,
    sizeBytes: MAX_DIRECTORY_BYTES,
    validBytes: MAX_DIRECTORY_BYTES,
    contiguous: false,
  }
  const rootDirectory = parseExfatDirectory(await readStream(root, 0, MAX_DIRECTORY_BYTES, '/', true))
  const { bitmap } = rootDirectory
  if (!bitmap || bitmap.sizeBytes * 8 < clusterCount) {
    throw new BadStructure(
      'exFAT bitmap',
      offsetOf(root.firstCluster),
      `it does not cover the ${clusterCount} clusters`,
    )
  }
  const dirty = (flags & FLAG_DIRTY) !== 0
  const findings: Finding[] = []
  if (dirty || flags & FLAG_MEDIA_FAILURE) {
    findings.push({
      severity: 'caution',
      code: 'exfat.dirty',
      sentence: dirty ? 'The volume was not closed cleanly.' : 'The system noted a read or write error on this volume.',
      evidence: `Volume flags ${flags.toString(16).padStart(4, '0')}`,
    })
  }

  async function chain(stream: ExfatStream, bytes: number, what: string, mayEnd = false): Promise<number[]> {
    const needed = Math.ceil(Math.min(bytes, stream.sizeBytes) / clusterSize)
    const bad = (cluster: number, why: string) =>
      new BadStructure('exFAT chain', geometry.fatOffset + cluster * 4, `${what} ${why}`)
    if (needed > clusterCount) {
      if (!mayEnd) throw bad(stream.firstCluster, `would be longer than the volume`)
    }
    const limit = clusterCount + FIRST_CLUSTER
    const clusters: number[] = []
    let piece: { at: number; view: DataView } | undefined
    for (let cluster = stream.firstCluster; clusters.length < needed;) {
      if (cluster === END_OF_CHAIN && mayEnd) break
      if (cluster < FIRST_CLUSTER || cluster >= limit || cluster === BAD_CLUSTER) {
        throw bad(cluster, `leads to cluster ${cluster}`)
      }
      clusters.push(cluster)
      if (mayEnd && clusters.length > clusterCount) throw bad(cluster, 'leads back to itself')
      if (stream.contiguous) {
        cluster++
        continue
      }
      const at = Math.floor((cluster * 4) / 65536) * 65536
      if (piece?.at !== at) {
        const length = Math.min(65536, geometry.fatBytes - at)
        piece = { at, view: viewOf(await readBytes(device, geometry.fatOffset + at, length)) }
      }
      cluster = piece.view.getUint32(cluster * 4 - at, true)
    }
    return clusters
  }

  async function readStream(stream: ExfatStream, offset: number, length: number, what: string, mayEnd = false) {
    const end = Math.min(offset + length, stream.sizeBytes)
    const clusters = await chain(stream, end, what, mayEnd)
    const out = allocate(Math.min(end, clusters.length * clusterSize) - offset)
    let start = 0
    for (const extent of chainExtents(clusters, offsetOf, clusterSize)) {
      const from = Math.max(offset, start)
      const to = Math.min(end, start + extent.length, stream.validBytes)
      if (from < to) await readInto(device, extent.offset + from - start, out.subarray(from - offset, to - offset))
      start += extent.length
    }
    return out
  }

  async function readDirectory(entry: ExfatEntry, path: string) {
    if (entry === root) return rootDirectory.entries
    if (entry.sizeBytes > MAX_DIRECTORY_BYTES) {
      throw new BadStructure(
        'exFAT directory',
        offsetOf(entry.firstCluster),
        `${path} would be ${entry.sizeBytes} bytes`,
      )
    }
    return parseExfatDirectory(await readStream(entry, 0, entry.sizeBytes, path)).entries
  }

  async function find(path: string): Promise<ExfatEntry> {
    let at = root
    for (const part of splitPath(path)) {
      if (!at.isDirectory) throw new NoSuchFile(path)
      const next = (await readDirectory(at, path)).find((e) => e.name.toUpperCase() === part.toUpperCase())
      if (!next) throw new NoSuchFile(path)
      at = next
    }
    return at
  }

  async function findFile(path: string): Promise<ExfatEntry> {
    const at = await find(path)
    if (at.isDirectory) throw new NoSuchFile(path)
    return at
  }

  async function openFile(path: string): Promise<OpenFile> {
    const at = await findFile(path)
    return { read: (offset, length) => readStream(at, offset, length, path) }
  }

  return {
    kind: 'exfat',
    name: 'exFAT',
    label: rootDirectory.label ?? '',
    serial: geometry.serial,
    clusterSize,
    clusterOrigin: heapOffset,
    totalBytes,
    mostBytes: mostExfatBytes(clusterSize),
    state: dirty ? 'dirty' : 'clean',
    depth: 'files',
    findings,
    ...(dirty
      ? { mapUnsure: 'The volume was not closed cleanly, so its map of used clusters may be older than its files.' }
      : {}),
    async *claims() {
      const directories: { entry: ExfatEntry; path: string }[] = [{ entry: root, path: '' }]
      for (let at = 0; at < directories.length && at < clusterCount; at++) {
        const { entry: directory, path } = directories[at]
        const entries = directory === root ? rootDirectory.entries : await readDirectory(directory, path)
        for (const entry of entries) {
          const own = `${path}/${entry.name}`
          const extents =
            entry.sizeBytes > 0 ? chainExtents(await chain(entry, entry.sizeBytes, own), offsetOf, clusterSize) : []
          yield { extents: [...extents], name: async () => own }
          if (entry.isDirectory && entry.sizeBytes > 0) directories.push({ entry, path: own })
        }
      }
    },
    async *metadata() {
      yield { offset: 0, length: heapOffset }
      yield* chainExtents(await chain(bitmap, bitmap.sizeBytes, 'the bitmap'), offsetOf, clusterSize)
      const directories = [root]
      for (let at = 0; at < directories.length && at < clusterCount; at++) {
        const entry = directories[at]
        const isRoot = entry === root
        yield* chainExtents(await chain(entry, entry.sizeBytes, 'a directory', isRoot), offsetOf, clusterSize)
        const { entries } = isRoot ? rootDirectory : { entries: await readDirectory(entry, 'a directory') }
        directories.push(...entries.filter((e) => e.isDirectory && e.sizeBytes > 0))
      }
    },
    async *usedExtents() {
      yield { offset: 0, length: heapOffset }
      const read = async (offset: number, into: Uint8Array) =>
        into.set(await readStream(bitmap, offset, into.length, 'the bitmap'))
      for await (const run of setBitRuns(read, clusterCount)) {
        yield { offset: offsetOf(run.offset + FIRST_CLUSTER), length: run.length * clusterSize }
      }
      const end = heapOffset + clusterCount * clusterSize
      if (device.size > end) yield { offset: end, length: device.size - end }
    },
    shrunk: (usedBytes) => ({
      bytes: Math.min(totalBytes, usedBytes + clusterSize),
      margin: 'one cluster stays free; the tables keep their length',
    }),
    async list(path) {
      const at = await find(path)
      if (!at.isDirectory) throw new NoSuchFile(path)
      return entriesBelow(path, await readDirectory(at, path))
    },
    stat: (path) => statBy(find, path),
    openFile,
    readFile: readFileBy(openFile),
    async fileExtents(path) {
      const at = await findFile(path)
      return chainExtents(await chain(at, at.sizeBytes, path), offsetOf, clusterSize)
    },
  }
}

async function readGeometry(device: BlockDevice) {
  const boot = EXFAT_BOOT.read(await readBytes(device, 0, 512))
  const bad = (why: string) => new BadStructure('exFAT boot sector', 0, why)
  if (boot.signature !== 0xaa55) throw bad('it does not end in its signature')
  if (boot.sectorShift < 9 || boot.sectorShift > 12) throw bad(`it gives sectors of 2^${boot.sectorShift} bytes`)
  if (boot.sectorShift + boot.clusterShift > 25) throw bad(`it gives clusters of 2^${boot.clusterShift} sectors`)
  const sectorSize = 2 ** boot.sectorShift
  const clusterSize = sectorSize * 2 ** boot.clusterShift
  const totalBytes = boot.volumeSectors * sectorSize
  const heapOffset = boot.heapOffset * sectorSize
  const fatOffset = boot.fatOffset * sectorSize
  const fatBytes = boot.fatSectors * sectorSize
  if (totalBytes > device.size) throw bad(`it claims ${boot.volumeSectors} sectors, more than its partition has`)
  if (fatOffset < 24 * sectorSize || fatOffset + fatBytes > heapOffset) throw bad('its table lies outside its place')
  if (heapOffset + boot.clusterCount * clusterSize > totalBytes) throw bad(`it claims ${boot.clusterCount} clusters`)
  if ((boot.clusterCount + FIRST_CLUSTER) * 4 > fatBytes) throw bad('its table is too short for its clusters')
  const serial = boot.serial.toString(16).toUpperCase().padStart(8, '0')
  return {
    clusterSize,
    totalBytes,
    heapOffset,
    fatOffset,
    fatBytes,
    clusterCount: boot.clusterCount,
    rootCluster: boot.rootCluster,
    flags: boot.flags,
    serial: `${serial.slice(0, 4)}-${serial.slice(4)}`,
  }
}
