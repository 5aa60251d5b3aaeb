import { unzlibSync } from 'fflate'
import { concatBytes } from '../../bytes/concat'
import { alignUp, formatLimit, formatSize, GIB } from '../../bytes/size'
import { CoreError } from '../../errors'
import type { FileWrite, ImageStore } from '../store'
import { vmdk } from '../vmdk'
import {
  AT_END,
  DEFLATE,
  DESCRIPTOR_AT,
  DESCRIPTOR_MARK,
  DESCRIPTOR_SECTORS,
  ENTRIES_PER_TABLE,
  FLAGS,
  GRAIN_DATA_AT,
  GRAIN_SECTORS,
  HEADER,
  LINE_ENDS,
  MAGIC,
  MARKER,
  MARKERS,
  MOST_SECTORS,
  NO_PARENT,
  SECTOR,
} from '../vmdk-layout'
import { BlockImage, type BlockMap } from './block-image'
import { PackedImage, type PackedMap } from './packed-image'
import type { TargetMaker, TargetOptions } from './port'
import { TablePages, WholeTable } from './table'

const GRAIN = GRAIN_SECTORS * SECTOR
export const grainBytes = () => GRAIN
const TABLE_BYTES = ENTRIES_PER_TABLE * 4
/** The directory stands behind header, descriptor and the mark of an unfinished copy. */
const DIRECTORY_AT = alignUp((DESCRIPTOR_AT + DESCRIPTOR_SECTORS) * SECTOR, 4096)

/** A VMDK of one file with grains of 64 KiB that are taken when they are written. */
export const sparseVmdkTarget: TargetMaker = async (store, options) =>
  BlockImage.make(store, new SparseMap(store, checked(options)), vmdk, options)

/** A VMDK whose packed grains follow each other with markers, as it is handed on in packages. */
export const streamVmdkTarget: TargetMaker = async (store, options) =>
  PackedImage.make(store, new StreamMap(store, checked(options)), vmdk, options)

/** Sectors of the file have numbers of 32 bits, of which its own tables take some. */
export const MOST_VMDK_BYTES = 2047 * GIB

function checked(options: TargetOptions): TargetOptions {
  if (options.virtualBytes <= MOST_VMDK_BYTES) return options
  throw new CoreError(
    `A VMDK holds at most ${formatLimit(MOST_VMDK_BYTES)}, and this disk has ${formatSize(options.virtualBytes)}. Choose VHDX or QCOW2.`,
  )
}

/** The directory in front, and tables of grains that are taken where they are needed. */
abstract class Tables {
  readonly blockBytes = GRAIN
  protected readonly directory: WholeTable
  protected readonly pages: TablePages
  private readonly tables: number
  protected readonly first: number
  end: number

  constructor(
    protected readonly store: ImageStore,
    protected readonly options: TargetOptions,
  ) {
    this.tables = Math.ceil(options.virtualBytes / GRAIN / ENTRIES_PER_TABLE)
    this.directory = new WholeTable(DIRECTORY_AT, alignUp(this.tables * 4, SECTOR))
    this.pages = new TablePages(store, TABLE_BYTES)
    this.end = this.first = alignUp(DIRECTORY_AT + this.directory.bytes.length, GRAIN)
  }

  /** The byte of the file that the entry of a grain names; 0 for none. */
  protected entry(grain: number): number | Promise<number> {
    const index = Math.floor(grain / ENTRIES_PER_TABLE)
    const within = (grain % ENTRIES_PER_TABLE) * 4
    const held = this.pages.now(index)
    if (held) return held.getUint32(within, true) * SECTOR
    const at = this.tableAt(index)
    return at === 0 ? 0 : this.pages.read(index, at).then((table) => table.getUint32(within, true) * SECTOR)
  }

  /** Makes sure that there is a table for a grain. */
  protected async tableFor(grain: number): Promise<DataView> {
    const index = Math.floor(grain / ENTRIES_PER_TABLE)
    const at = this.tableAt(index)
    if (at !== 0) return this.pages.read(index, at)
    const taken = await this.takeTable()
    this.directory.view.setUint32(index * 4, taken / SECTOR, true)
    this.directory.touch(index * 4)
    return this.pages.add(index, taken)
  }

  protected async enter(grain: number, at: number): Promise<void> {
    const table = await this.tableFor(grain)
    table.setUint32((grain % ENTRIES_PER_TABLE) * 4, at / SECTOR, true)
    this.pages.touch(Math.floor(grain / ENTRIES_PER_TABLE))
  }

  protected room(bytes: number): number {
    const at = this.end
    if ((at + bytes) / SECTOR > MOST_SECTORS)
      throw new CoreError('A VMDK cannot grow beyond 2 TiB. Choose VHDX or QCOW2.')
    this.end += bytes
    return at
  }

  /** Makes room for a table at the end of what is used. */
  protected abstract takeTable(): Promise<number>
  /** So many bytes of the file a grain takes that stands there. */
  protected abstract lengthAt(at: number): Promise<number>

  async load(): Promise<void> {
    const damaged = () => new CoreError('The tables of the image that was begun are damaged.')
    await this.directory.load(this.store)
    for (let index = 0; index < this.tables; index++) {
      const at = this.tableAt(index)
      if (at === 0) continue
      if (at < this.first) throw damaged()
      const table = await this.pages.read(index, at)
      let last = 0
      for (let i = 0; i < ENTRIES_PER_TABLE; i++) last = Math.max(last, table.getUint32(i * 4, true) * SECTOR)
      if (last !== 0 && last < this.first) throw damaged()
      this.end = Math.max(this.end, at + TABLE_BYTES, last === 0 ? 0 : last + (await this.lengthAt(last)))
    }
  }

  clear(): void {
    this.directory.clear()
    this.pages.forget()
    this.end = this.first
  }

  async save(): Promise<void> {
    await this.pages.save()
    await this.directory.save(this.store)
  }

  /** Header and descriptor, as they stand in front of everything. */
  protected front(kind: string, header: Uint8Array): FileWrite {
    const bytes = new Uint8Array(DIRECTORY_AT)
    bytes.set(header)
    bytes.set(new TextEncoder().encode(this.descriptor(kind)), DESCRIPTOR_AT * SECTOR)
    return { offset: 0, bytes }
  }

  protected head(values: { version: number; flags: number; packing: number; directory: bigint }): Uint8Array {
    const bytes = new Uint8Array(SECTOR)
    HEADER.write(bytes, {
      magic: MAGIC,
      capacity: Math.ceil(this.options.virtualBytes / SECTOR),
      grainSize: GRAIN_SECTORS,
      descriptorOffset: DESCRIPTOR_AT,
      descriptorSize: DESCRIPTOR_SECTORS,
      entriesPerTable: ENTRIES_PER_TABLE,
      overhead: this.first / SECTOR,
      lineEnds: LINE_ENDS,
      ...values,
    })
    return bytes
  }

  private descriptor(kind: string): string {
    const sectors = Math.ceil(this.options.virtualBytes / SECTOR)
    const cylinders = Math.min(65535, Math.max(1, Math.ceil(sectors / (255 * 63))))
    // The name stands between quotes, and all of it has to go into its sectors.
    const name = this.options.name.replace(/["\r\n]/g, '_').slice(0, 180)
    const identity = (Math.floor(this.options.time / 1000) % 0xfffffffe).toString(16).padStart(8, '0')
    return [
      DESCRIPTOR_MARK,
      'version=1',
      `CID=${identity}`,
      `parentCID=${NO_PARENT}`,
      `createType="${kind}"`,
      '',
      '# Extent description',
      `RW ${sectors} SPARSE "${name}"`,
      '',
      '# The Disk Data Base',
      '#DDB',
      '',
      'ddb.virtualHWVersion = "4"',
      `ddb.geometry.cylinders = "${cylinders}"`,
      'ddb.geometry.heads = "255"',
      'ddb.geometry.sectors = "63"',
      'ddb.adapterType = "lsilogic"',
      '',
    ].join('\n')
  }

  private tableAt(index: number): number {
    return this.directory.view.getUint32(index * 4, true) * SECTOR
  }
}

class SparseMap extends Tables implements BlockMap {
  find(grain: number): number | Promise<number> {
    return this.entry(grain)
  }

  async take(grain: number): Promise<number> {
    await this.tableFor(grain)
    const at = this.room(GRAIN)
    await this.enter(grain, at)
    return at
  }

  // Grains stay at multiples of their length, which is quicker to read for whoever uses them.
  protected async takeTable(): Promise<number> {
    return this.room(GRAIN)
  }

  protected async lengthAt(): Promise<number> {
    return GRAIN
  }

  override async load(): Promise<void> {
    await super.load()
    this.end = alignUp(this.end, GRAIN)
  }

  async close() {
    const directory = BigInt(DIRECTORY_AT / SECTOR)
    const header = this.head({ version: 1, flags: FLAGS.lineEnds, packing: 0, directory })
    return { length: this.end, writes: [this.front('monolithicSparse', header)] }
  }
}

class StreamMap extends Tables implements PackedMap {
  readonly frame = 'zlib'

  async holds(grain: number): Promise<boolean> {
    return (await this.entry(grain)) !== 0
  }

  async put(grain: number, _plain: Uint8Array, packed: Uint8Array): Promise<void> {
    await this.tableFor(grain)
    const bytes = new Uint8Array(alignUp(GRAIN_DATA_AT + packed.length, SECTOR))
    MARKER.write(bytes, { value: grain * GRAIN_SECTORS, size: packed.length })
    bytes.set(packed, GRAIN_DATA_AT)
    const at = this.room(bytes.length)
    await this.store.write(at, bytes)
    await this.enter(grain, at)
  }

  async get(grain: number): Promise<Uint8Array> {
    const at = await this.entry(grain)
    const bytes = new Uint8Array(await this.lengthAt(at))
    await this.store.read(at, bytes)
    const { size } = MARKER.read(bytes)
    return unzlibSync(bytes.subarray(GRAIN_DATA_AT, GRAIN_DATA_AT + size), { out: new Uint8Array(GRAIN) })
  }

  protected async takeTable(): Promise<number> {
    const at = this.room(SECTOR + TABLE_BYTES)
    await this.store.write(at, marker(MARKERS.table, TABLE_BYTES / SECTOR))
    return at + SECTOR
  }

  protected async lengthAt(at: number): Promise<number> {
    const head = new Uint8Array(SECTOR)
    await this.store.read(at, head)
    const { size } = MARKER.read(head)
    // Of one that was named and never stored there is nothing; what follows is written over it.
    return alignUp(GRAIN_DATA_AT + Math.min(size, 2 * GRAIN), SECTOR)
  }

  async close() {
    const flags = FLAGS.lineEnds | FLAGS.packed | FLAGS.markers
    const kind = { version: 3, flags, packing: DEFLATE }
    const directory = this.directory.bytes.slice()
    const at = this.end + SECTOR
    const end = [
      marker(MARKERS.directory, directory.length / SECTOR),
      directory,
      marker(MARKERS.footer, 1),
      this.head({ ...kind, directory: BigInt(at / SECTOR) }),
      marker(MARKERS.end, 0),
    ]
    const tail = concatBytes(end)
    return {
      length: this.end + tail.length,
      writes: [
        { offset: this.end, bytes: tail },
        this.front('streamOptimized', this.head({ ...kind, directory: AT_END })),
      ],
    }
  }
}

function marker(type: number, sectors: number): Uint8Array {
  const bytes = new Uint8Array(SECTOR)
  MARKER.write(bytes, { value: sectors, size: 0, type })
  return bytes
}
