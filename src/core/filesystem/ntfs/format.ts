import { type BlockDevice, isZero, writeBytes } from '../../block/device'
import { alignUp } from '../../bytes/size'
import { stringToUtf16, viewOf } from '../../bytes/struct'
import { CoreError } from '../../errors'
import { setBits } from '../bitmap'
import { buildTree, type NewFile, type TreeNode } from '../new-files'
import { ClusterAllocator } from './allocator'
import { buildIndex, indexEntry, type IndexItem } from './index-tree'
import {
  ATTRIBUTE_LIST_ENTRY,
  ATTRIBUTE_TYPES,
  BOOT_SECTOR,
  FILE_NAME,
  INDEX_ROOT,
  RECORD_IN_USE,
  RECORD_IS_DIRECTORY,
  RECORDS,
  STANDARD_INFORMATION,
  VOLUME_DIRTY,
  VOLUME_INFORMATION,
} from './layout'
import { buildRecord, fileNameValue, freeId, nonResidentAttribute, residentAttribute } from './records'
import { encodeRuns, type Run } from './runs'
import { ATTRIBUTE_DEFINITIONS, SECURITY_ID, securityStream, upCaseTable } from './system-files'

/** What a new volume is to be. */
export interface NtfsFormat {
  readonly label: string
  readonly serial: bigint
  /** Sector of the drive where the volume will start. */
  readonly startSector: number
  /** All time stamps: 100 ns steps since 1601. */
  readonly time: bigint
  readonly files: readonly NewFile[]
  /** Marks the volume as not closed cleanly. */
  readonly dirty?: boolean
}

const CLUSTER = 4096
const PIECE = 1024 * 1024
const RECORD = 1024
const INDEX_BLOCK_BYTES = 4096
/** Bytes of entries a directory's root may hold beside the other attributes of its record. */
const ROOT_ROOM = 400
/** Values up to this length lie in the record itself. */
const RESIDENT_LIMIT = 400
const LOG_BYTES = 2 * 1024 * 1024

/**
 * Makes an NTFS 3.1 volume with these files on a device, 4 KiB clusters and 1 KiB records. Files given as
 * unwritten take clusters whose content is left as it is. Throws CoreError when it does not fit.
 */
export async function formatNtfs(device: BlockDevice, format: NtfsFormat): Promise<void> {
  await new Formatter(device, format).run()
}

interface Placed {
  readonly runs: readonly Run[]
  readonly size: number
}

class Formatter {
  private readonly totalSectors: number
  private readonly totalClusters: number
  private readonly space: ClusterAllocator
  private readonly records = new Map<number, Uint8Array>()
  private nextRecord: number = RECORDS.firstUser
  private mft!: Placed
  /** One bit for each record of the file table. */
  private mftBitmap = new Uint8Array()

  constructor(
    private readonly device: BlockDevice,
    private readonly format: NtfsFormat,
  ) {
    if (device.logicalSectorSize !== 512) throw new CoreError('A new NTFS volume is only made with 512-byte sectors.')
    this.totalSectors = device.size / 512 - 1
    this.totalClusters = Math.floor(this.totalSectors / (CLUSTER / 512))
    if (this.totalClusters < 2000) throw new CoreError('An NTFS volume needs about 8 MiB.')
    this.space = new ClusterAllocator(this.totalClusters)
  }

  async run(): Promise<void> {
    const root = buildTree(this.format.files)
    const { boot, mirror } = this.reserveFixed(root)
    const log = await this.store(new Uint8Array(LOG_BYTES).fill(0xff))
    const bitmapBytes = alignUp(Math.ceil(this.totalClusters / 8), 8)
    const bitmap = { runs: this.space.take(Math.ceil(bitmapBytes / CLUSTER)), size: bitmapBytes }
    await this.systemRecords(boot, mirror, log, bitmap)
    await this.writeDirectory(root, RECORDS.root, RECORDS.root, this.systemEntries(boot, mirror, log, bitmap))
    await this.writeMft(mirror)
    await this.writeBitmap(bitmap)
    await this.writeBoot()
    await this.device.flush()
  }

  /** Boot file, mirror and file table have their places before anything else is laid out. */
  private reserveFixed(root: TreeNode): { boot: Placed; mirror: Placed } {
    const boot = { runs: [this.space.takeAt(0, 8192 / CLUSTER)], size: 8192 }
    const mirror = { runs: [this.space.takeAt(8192 / CLUSTER, 1)], size: 4 * RECORD }
    const count = RECORDS.firstUser + countRecords(root)
    const clusters = alignUp(count, 64) / (CLUSTER / RECORD)
    const start = Math.min(786432, Math.floor(this.totalClusters / 3))
    this.mft = { runs: [this.space.takeAt(start, clusters)], size: clusters * CLUSTER }
    return { boot, mirror }
  }

  private async systemRecords(boot: Placed, mirror: Placed, log: Placed, bitmap: Placed): Promise<void> {
    const upCase = await this.store(upCaseTable())
    const security = securityStream()
    const sds = await this.storeAt(security.parts, security.size)
    this.mftBitmap = new Uint8Array(alignUp(Math.ceil(this.mft.size / RECORD / 8), 8))
    const file = (number: number, name: string, placed: Placed) =>
      this.put(number, [this.standard(), this.fileName(RECORDS.root, name, placed.size), this.data(placed)], 1)
    file(RECORDS.mftMirror, '$MFTMirr', mirror)
    file(RECORDS.logFile, '$LogFile', log)
    file(RECORDS.bitmap, '$Bitmap', bitmap)
    file(RECORDS.boot, '$Boot', boot)
    file(RECORDS.upCase, '$UpCase', upCase)
    this.put(
      RECORDS.volume,
      [
        this.standard(),
        this.fileName(RECORDS.root, '$Volume', 0),
        residentAttribute({ type: ATTRIBUTE_TYPES.volumeName, id: 2 }, stringToUtf16(this.format.label)),
        residentAttribute({ type: ATTRIBUTE_TYPES.volumeInformation, id: 3 }, this.volumeInformation()),
        residentAttribute({ type: ATTRIBUTE_TYPES.data, id: 4 }, new Uint8Array()),
      ],
      1,
    )
    file(RECORDS.attrDef, '$AttrDef', await this.store(ATTRIBUTE_DEFINITIONS))
    const badSize = this.totalClusters * CLUSTER
    const bad = nonResidentAttribute(
      { type: ATTRIBUTE_TYPES.data, name: '$Bad', id: 3, flags: 0 },
      {
        runs: [{ lcn: null, length: this.totalClusters }],
        allocatedSize: badSize,
        dataSize: badSize,
        initializedSize: 0,
      },
    )
    const empty = residentAttribute({ type: ATTRIBUTE_TYPES.data, id: 2 }, new Uint8Array())
    this.put(RECORDS.badClusters, [this.standard(), this.fileName(RECORDS.root, '$BadClus', 0), empty, bad], 1)
    this.put(
      RECORDS.secure,
      [
        this.standard(),
        this.fileName(RECORDS.root, '$Secure', 0),
        this.data(sds, '$SDS'),
        this.viewIndex('$SDH', 18, security.byHash),
        this.viewIndex('$SII', 16, security.byId),
      ],
      1,
      // A view index is not a directory but has the bit of one that holds keys.
      RECORD_IN_USE | 8,
    )
    for (let number = RECORDS.extend + 1; number < 16; number++) {
      this.put(number, [this.standard(), residentAttribute({ type: ATTRIBUTE_TYPES.data, id: 1 }, new Uint8Array())], 0)
    }
    const extend: TreeNode = { name: '$Extend', children: new Map() }
    await this.writeDirectory(extend, RECORDS.extend, RECORDS.root, [])
  }

  /** The names of the system's own files, which the root directory lists like any others. */
  private systemEntries(boot: Placed, mirror: Placed, log: Placed, bitmap: Placed): IndexItem[] {
    const names: [number, string, number][] = [
      [RECORDS.mft, '$MFT', this.mft.size],
      [RECORDS.mftMirror, '$MFTMirr', mirror.size],
      [RECORDS.logFile, '$LogFile', log.size],
      [RECORDS.volume, '$Volume', 0],
      [RECORDS.attrDef, '$AttrDef', ATTRIBUTE_DEFINITIONS.length],
      [RECORDS.bitmap, '$Bitmap', bitmap.size],
      [RECORDS.boot, '$Boot', boot.size],
      [RECORDS.badClusters, '$BadClus', 0],
      [RECORDS.secure, '$Secure', 0],
      [RECORDS.upCase, '$UpCase', 131072],
    ]
    const items = names.map(([number, name, size]) =>
      this.entry(number, this.nameValue(RECORDS.root, name, size, false)),
    )
    items.push(this.entry(RECORDS.extend, this.nameValue(RECORDS.root, '$Extend', 0, true)))
    items.push(this.entry(RECORDS.root, this.nameValue(RECORDS.root, '.', 0, true)))
    return items
  }

  /** Writes a directory with all below it; returns nothing, since its parent has made its entry already. */
  private async writeDirectory(node: TreeNode, number: number, parent: number, extra: IndexItem[]): Promise<void> {
    const items = [...extra]
    for (const child of node.children!.values()) {
      const own = this.nextRecord++
      const isDirectory = child.children !== undefined
      const size = child.file ? fileSize(child.file) : 0
      items.push(this.entry(own, this.nameValue(number, child.name, size, isDirectory)))
      if (isDirectory) await this.writeDirectory(child, own, number, [])
      else await this.writeFile(child, own, number)
    }
    items.sort(byName)
    const tree = buildIndex(items, INDEX_BLOCK_BYTES, INDEX_BLOCK_BYTES / CLUSTER, ROOT_ROOM)
    const name = node.name === '' ? '.' : node.name
    const attributes = [this.standard(), this.fileName(parent, name, 0, true)]
    attributes.push(
      residentAttribute({ type: ATTRIBUTE_TYPES.indexRoot, name: '$I30', id: 2 }, indexRoot(0x30, 1, tree.rootNode)),
    )
    if (tree.blocks.length > 0) {
      const bytes = new Uint8Array(tree.blocks.length * INDEX_BLOCK_BYTES)
      tree.blocks.forEach((block, i) => bytes.set(block, i * INDEX_BLOCK_BYTES))
      const placed = await this.store(bytes)
      attributes.push(this.data(placed, '$I30', 3, ATTRIBUTE_TYPES.indexAllocation))
      const bits = new Uint8Array(alignUp(Math.ceil(tree.blocks.length / 8), 8))
      setBits(bits, 0, tree.blocks.length)
      attributes.push(residentAttribute({ type: ATTRIBUTE_TYPES.bitmap, name: '$I30', id: 4 }, bits))
    }
    this.put(number, attributes, 1, RECORD_IN_USE | RECORD_IS_DIRECTORY)
  }

  private async writeFile(node: TreeNode, number: number, parent: number): Promise<void> {
    const file = node.file!
    const head = [this.standard(), this.fileName(parent, node.name, fileSize(file))]
    if ('content' in file && file.content.length <= RESIDENT_LIMIT) {
      this.put(number, [...head, residentAttribute({ type: ATTRIBUTE_TYPES.data, id: 2 }, file.content)], 1)
      return
    }
    const size = fileSize(file)
    const placed: Placed = {
      size,
      runs: this.space.scatter(Math.ceil(size / CLUSTER), file.fragments ?? 1, file.gap ?? 0),
    }
    if ('content' in file) await this.writePlaced(placed, file.content)
    if ('unwrittenBytes' in file && file.head) {
      await writeBytes(this.device, placed.runs[0].lcn! * CLUSTER, file.head.subarray(0, CLUSTER))
    }
    if (encodeRuns(placed.runs).length <= RESIDENT_LIMIT) this.put(number, [...head, this.data(placed)], 1)
    else this.putScattered(number, head, placed)
  }

  /** A file whose run list needs records of its own: base record with an attribute list, and extensions. */
  private putScattered(number: number, head: Uint8Array[], placed: Placed): void {
    const parts: { runs: Run[]; lowestVcn: number; record: number }[] = []
    let vcn = 0
    for (const run of placed.runs) {
      let part = parts.at(-1)
      if (!part || encodeRuns([...part.runs, run]).length > 700) {
        part = { runs: [], lowestVcn: vcn, record: this.nextRecord++ }
        parts.push(part)
      }
      part.runs.push(run)
      vcn += run.length
    }
    const list: Uint8Array[] = [listEntry(0x10, 0, number, 0), listEntry(0x30, 0, number, 1)]
    for (const part of parts) {
      list.push(listEntry(ATTRIBUTE_TYPES.data, part.lowestVcn, part.record, 0))
      const allocated = vcn * CLUSTER
      const sizes =
        part.lowestVcn === 0
          ? { allocatedSize: allocated, dataSize: placed.size, initializedSize: placed.size }
          : { allocatedSize: 0, dataSize: 0, initializedSize: 0 }
      const attribute = nonResidentAttribute({ type: ATTRIBUTE_TYPES.data, id: 0 }, { ...part, ...sizes })
      const values = {
        number: part.record,
        sequence: 1,
        links: 0,
        flags: RECORD_IN_USE,
        base: reference(number),
        nextId: 1,
      }
      this.records.set(part.record, buildRecord(RECORD, values, [attribute]))
    }
    const value = new Uint8Array(list.reduce((sum, entry) => sum + entry.length, 0))
    list.reduce((at, entry) => (value.set(entry, at), at + entry.length), 0)
    const attribute = residentAttribute({ type: ATTRIBUTE_TYPES.attributeList, id: 2 }, value)
    this.put(number, [head[0], attribute, head[1]], 1)
  }

  private async writeMft(mirror: Placed): Promise<void> {
    const count = this.mft.size / RECORD
    setBits(this.mftBitmap, 0, 16)
    for (const number of this.records.keys()) setBits(this.mftBitmap, number, 1)
    this.put(
      RECORDS.mft,
      [
        this.standard(),
        this.fileName(RECORDS.root, '$MFT', this.mft.size),
        this.data(this.mft),
        // The map of the records used; small enough to lie in the record for what is made here.
        this.mftBitmap.length <= RESIDENT_LIMIT
          ? residentAttribute({ type: ATTRIBUTE_TYPES.bitmap, id: 3 }, this.mftBitmap)
          : this.data(await this.store(this.mftBitmap), '', 3, ATTRIBUTE_TYPES.bitmap),
      ],
      1,
    )
    const bytes = new Uint8Array(this.mft.size)
    for (let number = 0; number < count; number++) {
      bytes.set(this.records.get(number) ?? unusedRecord(number), number * RECORD)
    }
    await this.writePlaced(this.mft, bytes)
    await this.writePlaced(mirror, bytes.subarray(0, mirror.size))
  }

  private async writeBitmap(bitmap: Placed): Promise<void> {
    const bytes = new Uint8Array(bitmap.size)
    bytes.set(this.space.bits.subarray(0, bitmap.size))
    setBits(bytes, this.totalClusters, bitmap.size * 8 - this.totalClusters)
    await this.writePlaced(bitmap, bytes)
  }

  private async writeBoot(): Promise<void> {
    const boot = new Uint8Array(512)
    BOOT_SECTOR.write(boot, {
      jump: Uint8Array.of(0xeb, 0x52, 0x90),
      oemId: 'NTFS    ',
      bytesPerSector: 512,
      sectorsPerCluster: CLUSTER / 512,
      media: 0xf8,
      sectorsPerTrack: 63,
      heads: 255,
      hiddenSectors: this.format.startSector,
      physicalDrive: 0x00800080,
      totalSectors: this.totalSectors,
      mftLcn: this.mft.runs[0].lcn!,
      mftMirrorLcn: 8192 / CLUSTER,
      clustersPerRecord: -Math.log2(RECORD),
      clustersPerIndexBlock: INDEX_BLOCK_BYTES / CLUSTER,
      serial: this.format.serial,
      signature: 0xaa55,
    })
    await this.device.write(0, boot)
    await this.device.write(this.totalSectors * 512, boot)
  }

  private async store(bytes: Uint8Array): Promise<Placed> {
    const placed = { runs: this.space.take(Math.ceil(bytes.length / CLUSTER)), size: bytes.length }
    await this.writePlaced(placed, bytes)
    return placed
  }

  private async storeAt(parts: readonly { at: number; bytes: Uint8Array }[], size: number): Promise<Placed> {
    const whole = new Uint8Array(size)
    for (const { at, bytes } of parts) whole.set(bytes, at)
    return this.store(whole)
  }

  private async writePlaced({ runs }: Placed, bytes: Uint8Array): Promise<void> {
    let at = 0
    for (const { lcn, length } of runs) {
      const end = Math.min(bytes.length, at + length * CLUSTER)
      for (const start = at; at < end; at += PIECE) {
        const part = bytes.subarray(at, Math.min(end, at + PIECE))
        const place = lcn! * CLUSTER + at - start
        // The bitmap of a large volume is mostly zeros, which a new drive holds already.
        if (!(isZero(part) && (await this.readsAsZeros(place, part.length)))) {
          await writeBytes(this.device, place, part)
        }
      }
      at = end
    }
  }

  private async readsAsZeros(offset: number, length: number): Promise<boolean> {
    if (!this.device.mapped || offset % 512 !== 0 || length % 512 !== 0) return false
    return (await this.device.mapped(offset, length)).length === 0
  }

  private put(number: number, attributes: readonly Uint8Array[], links: number, flags = RECORD_IN_USE): void {
    const values = {
      number,
      sequence: Number(reference(number) >> 48n),
      links,
      flags,
      nextId: Math.max(8, freeId(attributes)),
    }
    this.records.set(number, buildRecord(RECORD, values, attributes))
  }

  private entry(number: number, key: Uint8Array): IndexItem {
    return indexEntry(reference(number), key)
  }

  private data({ runs, size }: Placed, name = '', id = 2, type: number = ATTRIBUTE_TYPES.data): Uint8Array {
    const allocatedSize = runs.reduce((sum, run) => sum + run.length, 0) * CLUSTER
    return nonResidentAttribute({ type, name, id }, { runs, allocatedSize, dataSize: size, initializedSize: size })
  }

  private standard(): Uint8Array {
    const { time } = this.format
    const value = new Uint8Array(STANDARD_INFORMATION.size)
    STANDARD_INFORMATION.write(value, {
      created: time,
      modified: time,
      recordChanged: time,
      accessed: time,
      fileAttributes: 0x20,
      securityId: SECURITY_ID,
    })
    return residentAttribute({ type: ATTRIBUTE_TYPES.standardInformation, id: 0 }, value)
  }

  private fileName(parent: number, name: string, size: number, isDirectory = false): Uint8Array {
    return residentAttribute(
      { type: ATTRIBUTE_TYPES.fileName, id: 1 },
      this.nameValue(parent, name, size, isDirectory),
      true,
    )
  }

  private nameValue(parent: number, name: string, size: number, isDirectory: boolean): Uint8Array {
    const { time } = this.format
    const allocatedSize = size > RESIDENT_LIMIT ? alignUp(size, CLUSTER) : alignUp(size, 8)
    return fileNameValue({ parent: reference(parent), name, time, allocatedSize, dataSize: size, isDirectory })
  }

  private volumeInformation(): Uint8Array {
    const value = new Uint8Array(VOLUME_INFORMATION.size)
    VOLUME_INFORMATION.write(value, { major: 3, minor: 1, flags: this.format.dirty ? VOLUME_DIRTY : 0 })
    return value
  }

  private viewIndex(name: string, collation: number, items: readonly IndexItem[]): Uint8Array {
    const { rootNode } = buildIndex(items, INDEX_BLOCK_BYTES, 1, ROOT_ROOM)
    return residentAttribute(
      { type: ATTRIBUTE_TYPES.indexRoot, name, id: collation - 10 },
      indexRoot(0, collation, rootNode),
    )
  }
}

function indexRoot(attributeType: number, collation: number, node: Uint8Array): Uint8Array {
  const value = new Uint8Array(INDEX_ROOT.size + node.length)
  INDEX_ROOT.write(value, { attributeType, collation, blockSize: INDEX_BLOCK_BYTES, clustersPerBlock: 1 })
  value.set(node, INDEX_ROOT.size)
  return value
}

/** A file reference: number and sequence. A system file's sequence is its number, others start at 1. */
function reference(number: number): bigint {
  const sequence = number === 0 ? 1 : number < 16 ? number : 1
  return (BigInt(sequence) << 48n) | BigInt(number)
}

function listEntry(type: number, lowestVcn: number, record: number, id: number): Uint8Array {
  const bytes = new Uint8Array(32)
  ATTRIBUTE_LIST_ENTRY.write(bytes, { type, length: 32, nameOffset: 26, lowestVcn, record: reference(record), id })
  return bytes
}

function unusedRecord(number: number): Uint8Array {
  return buildRecord(RECORD, { number, sequence: 1, links: 0, flags: 0, nextId: 0 }, [])
}

function fileSize(file: NewFile): number {
  return 'content' in file ? file.content.length : file.unwrittenBytes
}

/** Records the tree needs; a scattered file is counted with as many extensions as it could come to. */
function countRecords(node: TreeNode): number {
  if (!node.children) {
    const fragments = node.file?.fragments ?? 1
    return 1 + Math.ceil((fragments * 10) / 600)
  }
  let count = 1
  for (const child of node.children.values()) count += countRecords(child)
  return count
}

/** The order of a directory: by upper-case UTF-16 code units. */
function byName(a: IndexItem, b: IndexItem): number {
  const [x, y] = [keyName(a), keyName(b)]
  return x < y ? -1 : x > y ? 1 : 0
}

function keyName({ bytes }: IndexItem): string {
  const view = viewOf(bytes)
  const at = 16 + FILE_NAME.size
  let name = ''
  for (let i = 0; i < bytes[16 + 64]; i++) name += String.fromCharCode(view.getUint16(at + i * 2, true))
  return name.toUpperCase()
}
