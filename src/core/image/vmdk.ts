import { unzlibSync } from 'fflate'
import { LRUCache } from 'lru-cache'
import { asciiToString, viewOf } from '../bytes/struct'
import { BadStructure, NotSupported } from '../errors'
import { BlockMappedDevice, type Locator } from './block-mapped'
import { fileReader } from './file-reader'
import { type ImageFile, type ImageFormat, type OpenedImage, type OpenOptions, readFrom } from './port'
import { withSectors } from './sectors'
import {
  AT_END,
  DEFLATE,
  DESCRIPTOR_MARK,
  FLAGS,
  GRAIN_DATA_AT,
  HEADER,
  MAGIC,
  MARKER,
  NO_PARENT,
  SECTOR,
} from './vmdk-layout'

/** VMDK of one file: sparse and stream-optimised, also building on another. */
export const vmdk: ImageFormat = {
  kind: 'vmdk',
  async recognise(file) {
    if (file.size < HEADER.size) return false
    const head = await readFrom(file, 0, HEADER.size, 'image')
    return viewOf(head).getUint32(0, true) === MAGIC || asciiToString(head).startsWith(DESCRIPTOR_MARK)
  },
  open: openVmdk,
}

const MOST_TABLES = 4 * 1024 * 1024
const MOST_DESCRIPTOR_BYTES = 64 * 1024
/** Tables of grains that are held, of 2 KiB each as a rule. */
const HELD_TABLES = 256

async function openVmdk(file: ImageFile, options: OpenOptions): Promise<OpenedImage> {
  const first = await readFrom(file, 0, HEADER.size, 'VMDK header')
  if (viewOf(first).getUint32(0, true) !== MAGIC) {
    throw new NotSupported('This VMDK only describes a disk that lies in other files; those are images of their own.')
  }
  const named = HEADER.read(first)
  const bad = (why: string) => new BadStructure('VMDK header', 0, why)
  if (named.version < 1 || named.version > 3)
    throw new NotSupported(`This is version ${named.version} of VMDK; 1 to 3 are read.`)
  // A stream tells at its end where its directory is: footer, marker of the end.
  const header =
    named.directory === AT_END
      ? HEADER.read(await readFrom(file, file.size - 2 * SECTOR, HEADER.size, 'VMDK footer'))
      : named
  if (header.magic !== MAGIC || header.directory === AT_END)
    throw bad('its footer is missing; it may have been cut short')
  const { flags, capacity, grainSize, entriesPerTable } = header
  const packed = (flags & FLAGS.packed) !== 0
  if (packed && header.packing !== DEFLATE)
    throw new NotSupported(`Its grains are packed in a way (${header.packing}) that is not known here.`)
  if (capacity === 0 || capacity > 2 ** 41) throw bad(`it gives the disk ${capacity} sectors`)
  if (grainSize < 8 || grainSize > 2 ** 15 || !Number.isInteger(Math.log2(grainSize)))
    throw bad(`it gives grains of ${grainSize} sectors`)
  if (entriesPerTable < 1 || entriesPerTable > 2 ** 16) throw bad(`it gives tables of ${entriesPerTable} entries`)
  const tables = Math.ceil(capacity / grainSize / entriesPerTable)
  if (tables > MOST_TABLES) throw bad(`it divides the disk into ${tables} tables`)
  const directoryAt = Number(header.directory) * SECTOR
  const directory = viewOf(await readFrom(file, directoryAt, tables * 4, 'VMDK directory'))
  const descriptor = await descriptorOf(file, named)
  const parent = await parentOf(descriptor, options)
  const grainBytes = grainSize * SECTOR
  const zeroGrains = (flags & FLAGS.zeroGrains) !== 0
  const absent = parent ? ({ from: 'parent' } as const) : ({ from: 'zeros' } as const)

  const held = new LRUCache<number, DataView>({ max: HELD_TABLES })
  const table = async (index: number, sector: number): Promise<DataView> => {
    const known = held.get(index)
    if (known) return known
    const read = viewOf(await readFrom(file, sector * SECTOR, entriesPerTable * 4, 'VMDK table'))
    held.set(index, read)
    return read
  }
  const locate: Locator = async (offset, length) => {
    const grain = Math.floor(offset / grainBytes)
    const index = Math.floor(grain / entriesPerTable)
    const within = offset - grain * grainBytes
    const sector = directory.getUint32(index * 4, true)
    if (sector === 0) {
      return { length: Math.min(length, (index + 1) * entriesPerTable * grainBytes - offset), source: absent }
    }
    const entries = await table(index, sector)
    const at = grain - index * entriesPerTable
    const entry = entries.getUint32(at * 4, true)
    const rest = Math.min(length, grainBytes - within)
    if (zeroGrains && entry === 1) return { length: rest, source: { from: 'zeros' } }
    if (entry === 0) {
      // Grains that hold nothing are taken in one stretch.
      let grains = 1
      while (
        grains * grainBytes - within < length &&
        at + grains < entriesPerTable &&
        entries.getUint32((at + grains) * 4, true) === 0
      )
        grains++
      return { length: Math.min(length, grains * grainBytes - within), source: absent }
    }
    if (packed)
      return { length: rest, source: { from: 'unit', unit: grain, read: () => unpack(grain, entry * SECTOR) } }
    let grains = 1
    while (
      grains * grainBytes - within < length &&
      at + grains < entriesPerTable &&
      entries.getUint32((at + grains) * 4, true) === entry + grains * grainSize
    )
      grains++
    const stretch = Math.min(length, grains * grainBytes - within)
    return { length: stretch, source: { from: 'file', offset: entry * SECTOR + within } }
  }

  async function unpack(grain: number, at: number): Promise<Uint8Array> {
    const broken = (why: string) => new BadStructure('VMDK packed grain', at, why)
    const { value, size } = MARKER.read(await readFrom(file, at, MARKER.size, 'VMDK packed grain'))
    if ((flags & FLAGS.markers) !== 0 && value !== grain * grainSize)
      throw broken(`its marker names sector ${value}, and the table ${grain * grainSize}`)
    if (size === 0 || size > 2 * grainBytes + 1024) throw broken(`it gives itself ${size} bytes`)
    const bytes = await readFrom(file, at + GRAIN_DATA_AT, size, 'VMDK packed grain')
    const out = new Uint8Array(grainBytes)
    let plain
    try {
      plain = unzlibSync(bytes, { out })
    } catch {
      throw broken('it cannot be unpacked')
    }
    if (plain.length !== grainBytes) throw broken(`it unpacks to ${plain.length} bytes`)
    return out
  }

  const bytes = capacity * SECTOR
  return {
    kind: 'vmdk',
    name: packed ? 'VMDK, stream-optimised' : parent ? 'VMDK, sparse, on another' : 'VMDK, sparse',
    virtualBytes: bytes,
    identity: valueOf(descriptor, 'CID')?.toLowerCase(),
    ...(parent ? { parent: parent.name } : {}),
    findings:
      named.uncleanShutdown === 1
        ? [
            {
              severity: 'note',
              code: 'image.vmdk-unclean',
              sentence: 'The image was not closed cleanly by what last used it.',
            },
            ...(parent?.image.findings ?? []),
          ]
        : (parent?.image.findings ?? []),
    device: await withSectors(
      (sectorSize) =>
        new BlockMappedDevice(Math.floor(bytes / sectorSize) * sectorSize, sectorSize, {
          locate,
          read: fileReader(file),
          unitBytes: grainBytes,
          parent: parent?.image.device,
        }),
      options.sectorSize,
    ),
  }
}

/** The text in front that tells of the disk; empty where there is none. */
async function descriptorOf(file: ImageFile, header: ReturnType<typeof HEADER.read>): Promise<string> {
  const length = Math.min(header.descriptorSize * SECTOR, MOST_DESCRIPTOR_BYTES)
  if (header.descriptorOffset === 0 || length === 0) return ''
  const bytes = await readFrom(file, header.descriptorOffset * SECTOR, length, 'VMDK descriptor')
  const end = bytes.indexOf(0)
  return new TextDecoder().decode(end < 0 ? bytes : bytes.subarray(0, end))
}

function valueOf(descriptor: string, key: string): string | undefined {
  const found = new RegExp(`^\\s*${key}\\s*=\\s*"?([^"\\r\\n]*)"?\\s*$`, 'im').exec(descriptor)
  return found?.[1]
}

async function parentOf(
  descriptor: string,
  options: OpenOptions,
): Promise<{ name: string; image: OpenedImage } | undefined> {
  const identity = (valueOf(descriptor, 'parentCID') ?? NO_PARENT).toLowerCase()
  if (identity === NO_PARENT) return undefined
  const name = valueOf(descriptor, 'parentFileNameHint') ?? ''
  return { name, image: await options.openParent({ names: [name], identity, format: 'vmdk' }) }
}
