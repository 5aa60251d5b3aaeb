import { viewOf } from '../bytes/struct'
import type { ImageSink } from './port'
import { ENTRY_COPIED, HEADER, MAGIC } from './qcow2-layout'

const CLUSTER_BITS = 16
/** Length of a cluster of the images that are written. */
export const CLUSTER = 2 ** CLUSTER_BITS
const PER_TABLE = CLUSTER / 8
const PER_REFCOUNT_BLOCK = CLUSTER / 2

/**
 * A QCOW2 of version 3 that grows at its end. Clusters of the disk are entered in rising order; a table of the
 * second level is written as soon as the disk has passed it, so that only one is held in memory. The first table
 * and the counts of uses come last.
 */
export class Qcow2File {
  private next = 1
  private readonly l1: number[] = []
  private table: { index: number; bytes: Uint8Array } | undefined
  /** Uses of host clusters that have more than one. */
  private readonly shared = new Map<number, number>()

  constructor(private readonly sink: ImageSink) {}

  /** The first byte of a host cluster that nothing has yet, which is taken with this. */
  take(): number {
    return this.next++ * CLUSTER
  }

  /** The end of what was taken. */
  get end(): number {
    return this.next * CLUSTER
  }

  /** Counts one use more of the host cluster with this byte. */
  share(host: number): void {
    const cluster = Math.floor(host / CLUSTER)
    this.shared.set(cluster, (this.shared.get(cluster) ?? 1) + 1)
  }

  /** Says where a cluster of the disk stands. */
  async enter(cluster: number, entry: bigint): Promise<void> {
    const index = Math.floor(cluster / PER_TABLE)
    if (this.table?.index !== index) await this.closeTable()
    this.table ??= { index, bytes: new Uint8Array(CLUSTER) }
    viewOf(this.table.bytes).setBigUint64((cluster % PER_TABLE) * 8, entry)
  }

  private async closeTable(): Promise<void> {
    if (!this.table) return
    const at = this.take()
    this.l1[this.table.index] = at
    await this.sink.write(at, this.table.bytes)
    this.table = undefined
  }

  /** Writes what is left: tables, counts of uses, header. */
  async finish(virtualBytes: number): Promise<void> {
    const { sink } = this
    await this.closeTable()
    const tables = Math.max(1, Math.ceil(virtualBytes / CLUSTER / PER_TABLE))
    const first = new Uint8Array(Math.ceil((tables * 8) / CLUSTER) * CLUSTER)
    this.l1.forEach((at, i) => viewOf(first).setBigUint64(i * 8, BigInt(at) | ENTRY_COPIED))
    const l1Offset = this.end
    this.next += first.length / CLUSTER
    // The counts count the clusters that hold them too.
    let blocks = 0
    let roots = 0
    for (;;) {
      const all = this.next + blocks + roots
      const wantedBlocks = Math.ceil(all / PER_REFCOUNT_BLOCK)
      const wantedRoots = Math.ceil((wantedBlocks * 8) / CLUSTER)
      if (wantedBlocks === blocks && wantedRoots === roots) break
      blocks = wantedBlocks
      roots = wantedRoots
    }
    const refcountOffset = this.end
    const blocksAt = this.next + roots
    const all = this.next + roots + blocks
    await sink.truncate(all * CLUSTER)
    await sink.write(l1Offset, first)
    const root = new Uint8Array(roots * CLUSTER)
    for (let i = 0; i < blocks; i++) {
      viewOf(root).setBigUint64(i * 8, BigInt((blocksAt + i) * CLUSTER))
      const block = new Uint8Array(CLUSTER)
      const from = i * PER_REFCOUNT_BLOCK
      const used = Math.min(PER_REFCOUNT_BLOCK, all - from)
      for (let c = 0; c < used; c++) viewOf(block).setUint16(c * 2, this.shared.get(from + c) ?? 1)
      await sink.write((blocksAt + i) * CLUSTER, block)
    }
    await sink.write(refcountOffset, root)
    const header = new Uint8Array(CLUSTER)
    HEADER.write(header, {
      magic: MAGIC,
      version: 3,
      clusterBits: CLUSTER_BITS,
      size: virtualBytes,
      l1Size: tables,
      l1Offset,
      refcountOffset,
      refcountClusters: roots,
      refcountOrder: 4,
      headerLength: 104,
    })
    await sink.write(0, header)
  }
}
