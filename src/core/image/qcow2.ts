import { inflateSync } from 'fflate'
import { decompress as unzstd } from 'fzstd'
import { hasText, viewOf } from '../bytes/struct'
import { BadStructure, NotSupported } from '../errors'
import type { Finding } from '../findings'
import { fileReader } from './file-reader'
import { type ImageFile, type ImageFormat, type ImageKind, type OpenedImage, type OpenOptions, readFrom } from './port'
import {
  COMPRESSION,
  COMPRESSION_OFFSET,
  ENTRY_COMPRESSED,
  ENTRY_ZEROS,
  EXTENSION_BACKING_FORMAT,
  HEADER,
  INCOMPATIBLE,
  OFFSET_MASK,
} from './qcow2-layout'
import { withSectors } from './sectors'
import { type Locator, BlockMappedDevice } from './block-mapped'

/** QCOW2, versions 2 and 3, with packed clusters and a backing file. */
export const qcow2: ImageFormat = {
  kind: 'qcow2',
  async recognise(file) {
    return file.size >= 8 && hasText(await readFrom(file, 0, 4, 'image'), 0, 'QFI\xfb')
  },
  open: openQcow2,
}

const MAX_L1 = 4 * 1024 * 1024

async function openQcow2(file: ImageFile, options: OpenOptions): Promise<OpenedImage> {
  const head = new Uint8Array(4096)
  head.set(await readFrom(file, 0, Math.min(file.size, 4096), 'QCOW2 header'))
  const header = HEADER.read(head)
  const bad = (why: string) => new BadStructure('QCOW2 header', 0, why)
  const { version, clusterBits, size, l1Size, l1Offset } = header
  if (version !== 2 && version !== 3) throw new NotSupported(`This is version ${version} of QCOW2; 2 and 3 are read.`)
  if (clusterBits < 9 || clusterBits > 21) throw bad(`it gives clusters of 2^${clusterBits} bytes`)
  if (header.encryption !== 0) throw new NotSupported('The clusters of this image are encrypted, which is not read.')
  const incompatible = version === 3 ? header.incompatible : 0n
  if (incompatible & INCOMPATIBLE.externalData)
    throw new NotSupported('The data of this image lies in another file, which is not read.')
  if (incompatible & INCOMPATIBLE.subclusters)
    throw new NotSupported('The clusters of this image are divided further, which is not read.')
  if (incompatible & ~0x1fn) throw new NotSupported('This image needs something that is not known here.')
  const packing = incompatible & INCOMPATIBLE.compression ? head[COMPRESSION_OFFSET] : COMPRESSION.deflate
  if (packing !== COMPRESSION.deflate && packing !== COMPRESSION.zstd) throw bad(`it names the packing ${packing}`)
  if (size === 0 || size > 2 ** 50) throw bad(`it gives the disk ${size} bytes`)
  const clusterSize = 2 ** clusterBits
  const perTable = clusterSize / 8
  const tables = Math.ceil(size / clusterSize / perTable)
  if (l1Size < tables || tables > MAX_L1) throw bad(`its first table has ${l1Size} entries, and ${tables} are needed`)
  const l1 = viewOf(await readFrom(file, l1Offset, tables * 8, 'QCOW2 first table'))

  const findings: Finding[] = []
  if (incompatible & INCOMPATIBLE.corrupt) {
    findings.push({
      severity: 'damage',
      code: 'image.qcow2-corrupt',
      sentence: 'The image is marked as damaged by what last used it.',
    })
  } else if (incompatible & INCOMPATIBLE.dirty) {
    findings.push({
      severity: 'note',
      code: 'image.qcow2-dirty',
      sentence: 'The image was not closed cleanly. Its counts of uses may be wrong; its data is not touched by that.',
    })
  }
  if (header.snapshots > 0) {
    findings.push({
      severity: 'note',
      code: 'image.qcow2-snapshots',
      sentence: `The image holds ${header.snapshots} earlier ${header.snapshots === 1 ? 'state' : 'states'} besides; the present one was read.`,
    })
  }
  const backing = header.backingOffset === 0 ? undefined : await openBacking(head, header, options)
  const virtualBytes = Math.floor(size / 512) * 512

  // Tables of the second level, the last few used.
  const cache = new Map<number, DataView>()
  const second = async (index: number, offset: number): Promise<DataView> => {
    let table = cache.get(index)
    if (!table) {
      table = viewOf(await readFrom(file, offset, clusterSize, 'QCOW2 second table'))
      if (cache.size >= 16) cache.delete(cache.keys().next().value!)
      cache.set(index, table)
    }
    return table
  }
  const absent = backing ? ({ from: 'parent' } as const) : ({ from: 'zeros' } as const)
  const locate: Locator = async (offset, length) => {
    const cluster = Math.floor(offset / clusterSize)
    const index = Math.floor(cluster / perTable)
    const within = offset - cluster * clusterSize
    const tableAt = Number(l1.getBigUint64(index * 8) & OFFSET_MASK)
    if (tableAt === 0) {
      return { length: Math.min(length, (index + 1) * perTable * clusterSize - offset), source: absent }
    }
    const table = await second(index, tableAt)
    const first = cluster - index * perTable
    const entry = table.getBigUint64(first * 8)
    const rest = Math.min(length, clusterSize - within)
    if (entry & ENTRY_COMPRESSED) {
      return { length: rest, source: { from: 'unit', unit: cluster, read: () => unpack(entry) } }
    }
    const zeros = version === 3 && (entry & ENTRY_ZEROS) !== 0n
    const at = Number(entry & OFFSET_MASK)
    // Clusters that go on alike are taken in one stretch.
    let clusters = 1
    while (clusters * clusterSize - within < length && first + clusters < perTable) {
      const next = table.getBigUint64((first + clusters) * 8)
      if (next & ENTRY_COMPRESSED) break
      const nextZeros = version === 3 && (next & ENTRY_ZEROS) !== 0n
      const nextAt = Number(next & OFFSET_MASK)
      if (zeros !== nextZeros) break
      if (!zeros && nextAt !== (at === 0 ? 0 : at + clusters * clusterSize)) break
      clusters++
    }
    const stretch = Math.min(length, clusters * clusterSize - within)
    if (zeros) return { length: stretch, source: { from: 'zeros' } }
    if (at === 0) return { length: stretch, source: absent }
    if (at % clusterSize !== 0)
      throw new BadStructure('QCOW2 second table', tableAt, `cluster ${cluster} is not aligned`)
    return { length: stretch, source: { from: 'file', offset: at + within } }
  }

  async function unpack(entry: bigint): Promise<Uint8Array> {
    const shift = BigInt(62 - (clusterBits - 8))
    const at = Number(entry & ((1n << shift) - 1n))
    const sectors = Number((entry & (ENTRY_COMPRESSED - 1n)) >> shift) + 1
    const length = Math.min(sectors * 512 - (at % 512), file.size - at, 2 * clusterSize)
    const packed = await readFrom(file, at, Math.max(0, length), 'QCOW2 packed cluster')
    const out = new Uint8Array(clusterSize)
    try {
      if (packing === COMPRESSION.zstd) unzstd(zstdFrame(packed), out)
      else inflateSync(packed, { out })
    } catch {
      throw new BadStructure('QCOW2 packed cluster', at, 'it cannot be unpacked')
    }
    return out
  }

  return {
    kind: 'qcow2',
    name: `QCOW2, version ${version}`,
    virtualBytes,
    ...(backing ? { parent: backing.name, findings: [...findings, ...backing.image.findings] } : { findings }),
    // The format does not say how long a sector is.
    device: await withSectors(
      (sectorSize) =>
        new BlockMappedDevice(Math.floor(virtualBytes / sectorSize) * sectorSize, sectorSize, {
          locate,
          // The last cluster may be cut short in the file.
          read: paddedReader(file),
          unitBytes: clusterSize,
          parent: backing?.image.device,
        }),
      options.sectorSize,
    ),
  }
}

/** The sectors of a packed cluster hold one frame and then whatever was there; this cuts the frame out. */
function zstdFrame(bytes: Uint8Array): Uint8Array {
  // Zstandard frame format, RFC 8878, section 3.1.1: header, blocks with three bytes of header each, checksum.
  const descriptor = bytes[4]
  const single = (descriptor >> 5) & 1
  const sizeBytes = [single, 2, 4, 8][descriptor >> 6]
  let at = 5 + (single ? 0 : 1) + [0, 1, 2, 4][descriptor & 3] + sizeBytes
  for (let last = false; !last && at + 3 <= bytes.length;) {
    const block = bytes[at] | (bytes[at + 1] << 8) | (bytes[at + 2] << 16)
    last = (block & 1) === 1
    at += 3 + (((block >> 1) & 3) === 1 ? 1 : block >> 3)
  }
  return bytes.subarray(0, at + (descriptor & 4 ? 4 : 0))
}

function paddedReader(file: ImageFile) {
  const read = fileReader(file)
  return async (offset: number, into: Uint8Array) => {
    const inFile = Math.min(into.length, file.size - offset)
    if (inFile <= 0 || into.length - inFile >= 2 ** 21) return read(offset, into)
    await read(offset, into.subarray(0, inFile))
    into.fill(0, inFile)
  }
}

async function openBacking(
  head: Uint8Array,
  header: ReturnType<typeof HEADER.read>,
  options: OpenOptions,
): Promise<{ name: string; image: OpenedImage }> {
  const { backingOffset, backingLength } = header
  if (backingLength === 0 || backingLength > 1023 || backingOffset + backingLength > head.length) {
    throw new BadStructure('QCOW2 header', 8, 'the name of its backing file lies outside')
  }
  const name = new TextDecoder().decode(head.subarray(backingOffset, backingOffset + backingLength))
  const image = await options.openParent({ names: [name], format: backingFormat(head, header) })
  return { name, image }
}

/** What a header extension says of the backing file's format, where there is one. */
function backingFormat(head: Uint8Array, header: ReturnType<typeof HEADER.read>): ImageKind | undefined {
  const view = viewOf(head)
  let at = header.version === 3 ? header.headerLength : 72
  while (at >= 72 && at + 8 <= head.length) {
    const [type, length] = [view.getUint32(at), view.getUint32(at + 4)]
    if (type === 0 || at + 8 + length > head.length) return undefined
    if (type === EXTENSION_BACKING_FORMAT) {
      const text = new TextDecoder().decode(head.subarray(at + 8, at + 8 + length))
      const kinds: Record<string, ImageKind> = { raw: 'raw', qcow2: 'qcow2', vpc: 'vhd', vhdx: 'vhdx' }
      return kinds[text]
    }
    at += 8 + Math.ceil(length / 8) * 8
  }
  return undefined
}
