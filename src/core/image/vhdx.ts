import { crc32c } from '../bytes/crc32'
import { NIL_GUID } from '../bytes/guid'
import { hasText, viewOf } from '../bytes/struct'
import { BadStructure, CoreError } from '../errors'
import type { Finding } from '../findings'
import { type ImageFile, type ImageFormat, type NewBlock, type OpenedImage, type OpenOptions, readFrom } from './port'
import { type Locator, BlockMappedDevice } from './block-mapped'
import { fileReader } from './file-reader'
import {
  BLOCK,
  chunkRatio,
  FILE_SIGNATURE,
  HAS_PARENT,
  HEADER,
  HEADER_PLACES,
  ITEMS,
  KIB64,
  LOCATOR_ENTRY,
  LOCATOR_HEADER,
  METADATA_ENTRY,
  METADATA_HEADER,
  MIB,
  REGION,
  REGION_HEADER,
  REGION_PLACES,
  REGIONS,
} from './vhdx-layout'
import { replayLog } from './vhdx-log'

/** VHDX: dynamic, fixed and differencing. */
export const vhdx: ImageFormat = {
  kind: 'vhdx',
  async recognise(file) {
    return file.size >= 8 && hasText(await readFrom(file, 0, 8, 'image'), 0, FILE_SIGNATURE)
  },
  open: openVhdx,
}

type Header = ReturnType<typeof HEADER.read>
type Items = Map<string, Uint8Array>

async function openVhdx(opened: ImageFile, options: OpenOptions): Promise<OpenedImage> {
  const findings: Finding[] = []
  const header = await readHeader(opened, findings)
  let file = opened
  if (header.logGuid !== NIL_GUID) {
    if (header.logLength % MIB !== 0 || header.logLength > 64 * MIB || header.logOffset < MIB) {
      throw new BadStructure('VHDX header', HEADER_PLACES[0], `it gives a log of ${header.logLength} bytes`)
    }
    const replayed = await replayLog(opened, header)
    file = replayed.file
    findings.push({
      severity: 'caution',
      code: 'image.vhdx-log-replayed',
      sentence:
        'The image was not closed cleanly. The changes in its log were taken into account; the file was left as it is.',
      evidence: `${replayed.entries} entries of log ${header.logGuid}`,
    })
  }
  const regions = await readRegions(file, findings)
  const items = await readItems(file, regions.metadata)
  const u32 = (id: string, name: string) => {
    const bytes = items.get(id)
    if (!bytes || bytes.length < 4) throw bad(regions.metadata.offset, `it does not give the ${name}`)
    return viewOf(bytes).getUint32(0, true)
  }
  const blockSize = u32(ITEMS.parameters, 'block size')
  const flags = viewOf(items.get(ITEMS.parameters)!).getUint32(4, true)
  const sectorSize = u32(ITEMS.logicalSector, 'sector size')
  const sizeItem = items.get(ITEMS.diskSize)
  if (!sizeItem || sizeItem.length < 8) throw bad(regions.metadata.offset, 'it does not give the size of the disk')
  const size = Number(viewOf(sizeItem).getBigUint64(0, true))
  if (sectorSize !== 512 && sectorSize !== 4096)
    throw bad(regions.metadata.offset, `it gives sectors of ${sectorSize} bytes`)
  if (blockSize < MIB || blockSize > 256 * MIB || !Number.isInteger(Math.log2(blockSize))) {
    throw bad(regions.metadata.offset, `it gives blocks of ${blockSize} bytes`)
  }
  if (size === 0 || size % sectorSize !== 0 || size > 64 * 1024 ** 4) {
    throw bad(regions.metadata.offset, `it gives the disk ${size} bytes`)
  }
  const hasParent = (flags & HAS_PARENT) !== 0
  const parent = hasParent ? await openParent(items, options) : undefined
  const locate = await blockLocator(file, regions.table, { blockSize, sectorSize, size, hasParent })
  const present = hasParent ? 'differencing' : flags & 1 ? 'fixed' : 'dynamic'
  return {
    kind: 'vhdx',
    name: `VHDX, ${present}`,
    virtualBytes: size,
    identity: header.dataWriteGuid,
    ...(parent ? { parent: parent.name } : {}),
    findings: [...findings, ...(parent?.image.findings ?? [])],
    ...(hasParent ? {} : { newBlock: newBlockOf(regions.table, blockSize, sectorSize) }),
    device: new BlockMappedDevice(size, sectorSize, {
      locate,
      read: fileReader(file),
      unitBytes: blockSize,
      parent: parent?.image.device,
    }),
  }
}

function newBlockOf(table: { offset: number }, blockBytes: number, sectorSize: number): NewBlock {
  const ratio = chunkRatio(blockBytes, sectorSize)
  return {
    blockBytes,
    alignBytes: MIB,
    head: new Uint8Array(0),
    tailBytes: 0,
    entry(offset, place) {
      const block = Math.floor(offset / blockBytes)
      const bytes = new Uint8Array(8)
      viewOf(bytes).setBigUint64(0, (BigInt(place / MIB) << 20n) | BigInt(BLOCK.present), true)
      return { at: table.offset + (block + Math.floor(block / ratio)) * 8, bytes }
    },
  }
}

const bad = (offset: number, why: string) => new BadStructure('VHDX metadata', offset, why)

/** The newer of the two headers that hold. */
async function readHeader(file: ImageFile, findings: Finding[]): Promise<Header> {
  const good: Header[] = []
  for (const place of HEADER_PLACES) {
    const bytes = await readFrom(file, place, 4096, 'VHDX header')
    if (!hasText(bytes, 0, 'head')) continue
    const unsigned = bytes.slice()
    HEADER.write(unsigned, { checksum: 0 })
    if (viewOf(bytes).getUint32(4, true) !== crc32c(unsigned)) continue
    const header = HEADER.read(bytes)
    if (header.version === 1) good.push(header)
  }
  if (good.length === 0) throw new BadStructure('VHDX header', HEADER_PLACES[0], 'neither of the two holds')
  if (good.length === 1) {
    findings.push({
      severity: 'note',
      code: 'image.vhdx-header',
      sentence: 'One of the two headers of the image does not hold; the other was used.',
    })
  }
  return good.reduce((a, b) => (b.sequence > a.sequence ? b : a))
}

async function readRegions(file: ImageFile, findings: Finding[]) {
  for (const [i, place] of REGION_PLACES.entries()) {
    const bytes = await readFrom(file, place, KIB64, 'VHDX region table')
    const { signature, checksum, count } = REGION_HEADER.read(bytes)
    const unsigned = bytes.slice()
    REGION_HEADER.write(unsigned, { checksum: 0 })
    if (signature !== 'regi' || count > 2047 || crc32c(unsigned) !== checksum) continue
    const found = new Map<string, { offset: number; length: number }>()
    for (let r = 0; r < count; r++) {
      const region = REGION.read(bytes, 16 + r * 32)
      if (region.offset + region.length > file.size) {
        throw new BadStructure('VHDX region table', place, `a region lies behind the end of the file`)
      }
      found.set(region.id, region)
    }
    const [table, metadata] = [found.get(REGIONS.table), found.get(REGIONS.metadata)]
    if (!table || !metadata)
      throw new BadStructure('VHDX region table', place, 'a region that must be there is missing')
    if (i > 0) {
      findings.push({
        severity: 'note',
        code: 'image.vhdx-regions',
        sentence: 'The first table of regions of the image does not hold; its copy was used.',
      })
    }
    return { table, metadata }
  }
  throw new BadStructure('VHDX region table', REGION_PLACES[0], 'neither of the two holds')
}

async function readItems(file: ImageFile, region: { offset: number; length: number }): Promise<Items> {
  const head = await readFrom(file, region.offset, KIB64, 'VHDX metadata')
  const { signature, count } = METADATA_HEADER.read(head)
  if (signature !== 'metadata' || count > 2047) throw bad(region.offset, 'its table does not carry its mark')
  const known = new Set<string>(Object.values(ITEMS))
  const items: Items = new Map()
  for (let i = 0; i < count; i++) {
    const { id, offset, length, flags } = METADATA_ENTRY.read(head, 32 + i * 32)
    if (!known.has(id)) {
      if (flags & 4) throw bad(region.offset, `it needs something that is not known here (${id})`)
      continue
    }
    if (length > KIB64 || offset + length > region.length) throw bad(region.offset, 'an item of it lies outside')
    items.set(id, await readFrom(file, region.offset + offset, length, 'VHDX metadata'))
  }
  const parameters = items.get(ITEMS.parameters)
  if (!parameters || parameters.length < 8) throw bad(region.offset, 'it does not give the block size')
  return items
}

/** Reads the block table in pieces, since that of a large disk is long. */
async function blockLocator(
  file: ImageFile,
  region: { offset: number; length: number },
  disk: { blockSize: number; sectorSize: number; size: number; hasParent: boolean },
): Promise<Locator> {
  const { blockSize, sectorSize, size, hasParent } = disk
  const ratio = chunkRatio(blockSize, sectorSize)
  const blocks = Math.ceil(size / blockSize)
  const entries = hasParent
    ? (Math.floor((blocks - 1) / ratio) + 1) * (ratio + 1)
    : blocks + Math.floor((blocks - 1) / ratio)
  if (entries * 8 > region.length) {
    throw new BadStructure(
      'VHDX block table',
      region.offset,
      `it has ${region.length} bytes and the disk ${blocks} blocks`,
    )
  }
  let piece: { at: number; view: DataView } | undefined
  const entry = async (index: number): Promise<{ state: number; offset: number }> => {
    const at = Math.floor((index * 8) / KIB64) * KIB64
    if (piece?.at !== at) {
      const length = Math.min(KIB64, region.length - at)
      piece = { at, view: viewOf(await readFrom(file, region.offset + at, length, 'VHDX block table')) }
    }
    const value = piece.view.getBigUint64(index * 8 - at, true)
    return { state: Number(value & 7n), offset: Number(value >> 20n) * MIB }
  }
  let bitmap: { chunk: number; bytes: Uint8Array } | undefined
  return async (offset, length) => {
    const block = Math.floor(offset / blockSize)
    const within = offset - block * blockSize
    const rest = Math.min(length, blockSize - within)
    const chunk = Math.floor(block / ratio)
    const { state, offset: at } = await entry(block + chunk)
    if (state === BLOCK.present || state === BLOCK.partial) {
      if (at < MIB || at + within + rest > file.size) {
        throw new BadStructure('VHDX block table', region.offset, `block ${block} lies behind the end of the file`)
      }
    }
    if (state === BLOCK.present) return { length: rest, source: { from: 'file', offset: at + within } }
    if (state === BLOCK.partial && hasParent) {
      if (bitmap?.chunk !== chunk) {
        const place = await entry((chunk + 1) * ratio + chunk)
        bitmap = { chunk, bytes: await readFrom(file, place.offset, MIB, 'VHDX sector bitmap') }
      }
      // Lowest bit first; a set bit is a sector that this file holds.
      const has = (index: number) => (bitmap!.bytes[index >> 3] >> (index & 7)) & 1
      const first = ((block % ratio) * blockSize + within) / sectorSize
      const here = has(first)
      let sectors = 1
      while (sectors * sectorSize < rest && has(first + sectors) === here) sectors++
      const stretch = Math.min(rest, sectors * sectorSize)
      return { length: stretch, source: here ? { from: 'file', offset: at + within } : { from: 'parent' } }
    }
    if (state > BLOCK.unmapped) {
      throw new BadStructure('VHDX block table', region.offset, `block ${block} is in the state ${state}`)
    }
    return { length: rest, source: { from: hasParent && state === BLOCK.absent ? 'parent' : 'zeros' } }
  }
}

async function openParent(items: Items, options: OpenOptions): Promise<{ name: string; image: OpenedImage }> {
  const bytes = items.get(ITEMS.parentLocator)
  if (!bytes) throw bad(0, 'it builds on another image and does not say on which')
  const { count } = LOCATOR_HEADER.read(bytes)
  const values = new Map<string, string>()
  const text = (at: number, length: number) => {
    if (at + length > bytes.length) throw bad(0, 'its parent locator is cut off')
    return new TextDecoder('utf-16le').decode(bytes.subarray(at, at + length))
  }
  for (let i = 0; i < count; i++) {
    const { keyOffset, valueOffset, keyLength, valueLength } = LOCATOR_ENTRY.read(bytes, 20 + i * 12)
    values.set(text(keyOffset, keyLength), text(valueOffset, valueLength))
  }
  const names = ['relative_path', 'absolute_win32_path', 'volume_path'].flatMap((key) => values.get(key) ?? [])
  const linkages = ['parent_linkage', 'parent_linkage2'].flatMap(
    (key) => values.get(key)?.replace(/[{}]/g, '').toLowerCase() ?? [],
  )
  const image = await options.openParent({ names, identity: linkages[0], format: 'vhdx' })
  if (linkages.length > 0 && image.identity !== undefined && !linkages.includes(image.identity)) {
    throw new CoreError(
      `The image that this one builds on was changed since: it is ${image.identity}, and ${linkages[0]} was expected.`,
    )
  }
  return { name: names[0] ?? '', image }
}
