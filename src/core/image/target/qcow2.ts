import { inflateSync } from 'fflate'
import { viewOf } from '../../bytes/struct'
import { CoreError } from '../../errors'
import { qcow2 } from '../qcow2'
import { ENTRY_COMPRESSED, ENTRY_COPIED, HEADER, MAGIC, OFFSET_MASK } from '../qcow2-layout'
import type { ImageStore } from '../store'
import { BlockImage, type BlockMap } from './block-image'
import { PackedImage, type PackedMap } from './packed-image'
import type { TargetMaker, TargetOptions } from './port'
import { TablePages, WholeTable } from './table'

const CLUSTER_BITS = 16
const CLUSTER = 2 ** CLUSTER_BITS
export const qcow2ClusterBytes = () => CLUSTER
const PER_TABLE = CLUSTER / 8
const PER_REFCOUNT_BLOCK = CLUSTER / 2
const SECTOR = 512
/** Of an entry of a packed cluster: where the count of its sectors begins. */
const SECTORS_SHIFT = BigInt(62 - (CLUSTER_BITS - 8))

/** A QCOW2 with clusters of 64 KiB, none packed. */
export const qcow2Target: TargetMaker = (store, options) =>
  BlockImage.make(store, new PlainMap(store, options), qcow2, options)

/** A QCOW2 with each cluster packed by deflate where that makes it shorter, packed ones close behind each other. */
export const packedQcow2Target: TargetMaker = (store, options) =>
  PackedImage.make(store, new DenseMap(store, options), qcow2, options)

/** Both tables of a QCOW2 of version 3, in the file from the start, and the counts of uses, which come last. */
class Tables {
  readonly blockBytes = CLUSTER
  protected readonly l1: WholeTable
  protected readonly pages: TablePages
  protected readonly first: number
  private readonly tables: number
  end: number

  constructor(
    protected readonly store: ImageStore,
    protected readonly options: TargetOptions,
  ) {
    this.tables = Math.max(1, Math.ceil(options.virtualBytes / CLUSTER / PER_TABLE))
    const length = Math.ceil((this.tables * 8) / CLUSTER) * CLUSTER
    this.l1 = new WholeTable(CLUSTER, length)
    this.pages = new TablePages(store, CLUSTER)
    this.end = this.first = CLUSTER + length
  }

  /** The entry of a cluster; at once where its table is held or there is none. */
  protected entry(cluster: number): bigint | Promise<bigint> {
    const index = Math.floor(cluster / PER_TABLE)
    const within = (cluster % PER_TABLE) * 8
    const held = this.pages.now(index)
    if (held) return held.getBigUint64(within)
    const at = this.tableAt(index)
    if (at === 0) return 0n
    return this.pages.read(index, at).then((table) => table.getBigUint64(within))
  }

  protected async enter(cluster: number, entry: bigint): Promise<void> {
    const index = Math.floor(cluster / PER_TABLE)
    const at = this.tableAt(index)
    const table = at === 0 ? await this.addTable(index) : await this.pages.read(index, at)
    table.setBigUint64((cluster % PER_TABLE) * 8, entry)
    this.pages.touch(index)
  }

  /** The first byte of a cluster of the file that nothing has yet, which is taken with this. */
  protected room(): number {
    const at = this.end
    this.end += CLUSTER
    return at
  }

  async load(): Promise<void> {
    await this.l1.load(this.store)
    await this.eachUse((at, length) => (this.end = Math.max(this.end, Math.ceil((at + length) / CLUSTER) * CLUSTER)))
  }

  clear(): void {
    this.l1.clear()
    this.pages.forget()
    this.end = this.first
  }

  async save(): Promise<void> {
    await this.pages.save()
    await this.l1.save(this.store)
  }

  async close() {
    // The counts count the clusters that hold them too.
    const used = this.end / CLUSTER
    let blocks = 0
    let roots = 0
    for (;;) {
      const wantedBlocks = Math.ceil((used + blocks + roots) / PER_REFCOUNT_BLOCK)
      const wantedRoots = Math.ceil((wantedBlocks * 8) / CLUSTER)
      if (wantedBlocks === blocks && wantedRoots === roots) break
      blocks = wantedBlocks
      roots = wantedRoots
    }
    const all = used + roots + blocks
    const counts = new Uint16Array(all)
    counts.fill(1, 0, this.first / CLUSTER)
    counts.fill(1, used)
    await this.eachUse((at, length) => {
      const last = Math.floor((at + length - 1) / CLUSTER)
      for (let cluster = Math.floor(at / CLUSTER); cluster <= last; cluster++) counts[cluster]++
    })
    const root = new Uint8Array(roots * CLUSTER)
    for (let i = 0; i < blocks; i++) {
      const at = (used + roots + i) * CLUSTER
      viewOf(root).setBigUint64(i * 8, BigInt(at))
      const block = new Uint8Array(CLUSTER)
      const part = counts.subarray(i * PER_REFCOUNT_BLOCK, (i + 1) * PER_REFCOUNT_BLOCK)
      part.forEach((count, c) => viewOf(block).setUint16(c * 2, count))
      await this.store.write(at, block)
    }
    await this.store.write(this.end, root)
    const header = new Uint8Array(CLUSTER)
    HEADER.write(header, {
      magic: MAGIC,
      version: 3,
      clusterBits: CLUSTER_BITS,
      size: this.options.virtualBytes,
      l1Size: this.tables,
      l1Offset: CLUSTER,
      refcountOffset: this.end,
      refcountClusters: roots,
      refcountOrder: 4,
      headerLength: 104,
    })
    return { length: all * CLUSTER, writes: [{ offset: 0, bytes: header }] }
  }

  /** Tells of every stretch of the file that a table names, those of the tables themselves too. */
  private async eachUse(told: (at: number, length: number) => void): Promise<void> {
    const damaged = () => new CoreError('The tables of the image that was begun are damaged.')
    for (let index = 0; index < this.tables; index++) {
      const tableAt = this.tableAt(index)
      if (tableAt === 0) continue
      if (tableAt < this.first || tableAt % CLUSTER !== 0) throw damaged()
      told(tableAt, CLUSTER)
      const table = this.pages.now(index) ?? (await this.pages.read(index, tableAt))
      for (let i = 0; i < PER_TABLE; i++) {
        const entry = table.getBigUint64(i * 8)
        if (entry === 0n) continue
        const { at, length, packed } = stretchOf(entry)
        if (at < this.first || (!packed && at % CLUSTER !== 0)) throw damaged()
        told(at, length)
      }
    }
  }

  private tableAt(index: number): number {
    return Number(this.l1.view.getBigUint64(index * 8) & OFFSET_MASK)
  }

  private async addTable(index: number): Promise<DataView> {
    const at = this.room()
    this.l1.view.setBigUint64(index * 8, BigInt(at) | ENTRY_COPIED)
    this.l1.touch(index * 8)
    return this.pages.add(index, at)
  }
}

/** The stretch of the file that an entry names; of a packed cluster to the end of its last sector. */
function stretchOf(entry: bigint): { at: number; length: number; packed: boolean } {
  if (!(entry & ENTRY_COMPRESSED)) return { at: Number(entry & OFFSET_MASK), length: CLUSTER, packed: false }
  const at = Number(entry & ((1n << SECTORS_SHIFT) - 1n))
  const sectors = Number((entry & (ENTRY_COMPRESSED - 1n)) >> SECTORS_SHIFT) + 1
  return { at, length: sectors * SECTOR - (at % SECTOR), packed: true }
}

class PlainMap extends Tables implements BlockMap {
  find(cluster: number): number | Promise<number> {
    const entry = this.entry(cluster)
    return typeof entry === 'bigint' ? Number(entry & OFFSET_MASK) : entry.then((found) => Number(found & OFFSET_MASK))
  }

  async take(cluster: number): Promise<number> {
    // A table of the second level goes in front of the first cluster that it names.
    await this.enter(cluster, 0n)
    const at = this.room()
    await this.enter(cluster, BigInt(at) | ENTRY_COPIED)
    return at
  }
}

class DenseMap extends Tables implements PackedMap {
  readonly frame = 'bare'
  /** Where the next packed cluster goes, and the end of the cluster of the file that it begins in. */
  private packedAt = 0
  private packedEnd = 0

  async holds(cluster: number): Promise<boolean> {
    return (await this.entry(cluster)) !== 0n
  }

  async put(cluster: number, plain: Uint8Array, packed: Uint8Array): Promise<void> {
    await this.enter(cluster, await this.entry(cluster))
    if (packed.length > CLUSTER - SECTOR) {
      const at = this.room()
      await this.store.write(at, plain)
      return this.enter(cluster, BigInt(at) | ENTRY_COPIED)
    }
    // What was taken up behind the last one only goes on where nothing else was put there meanwhile.
    if (this.packedAt + packed.length > this.packedEnd && this.packedEnd !== this.end) {
      this.packedAt = this.packedEnd = this.end
    }
    if (this.packedAt + packed.length > this.packedEnd) this.packedEnd = this.room() + CLUSTER
    const at = this.packedAt
    this.packedAt += packed.length
    const more = Math.floor((this.packedAt - 1) / SECTOR) - Math.floor(at / SECTOR)
    await this.store.write(at, packed)
    await this.enter(cluster, ENTRY_COMPRESSED | (BigInt(more) << SECTORS_SHIFT) | BigInt(at))
  }

  async get(cluster: number): Promise<Uint8Array> {
    const { at, length, packed } = stretchOf(await this.entry(cluster))
    const bytes = new Uint8Array(length)
    await this.store.read(at, bytes)
    return packed ? inflateSync(bytes, { out: new Uint8Array(CLUSTER) }) : bytes
  }

  override async load(): Promise<void> {
    await super.load()
    this.packedAt = this.packedEnd = this.end
  }

  override clear(): void {
    super.clear()
    this.packedAt = this.packedEnd = 0
  }
}
