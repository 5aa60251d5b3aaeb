import { isZero } from '../block/device'
import { viewOf } from '../bytes/struct'
import { gather } from './gather'
import type { ImageSink, ImageWriter } from './port'
import { ENTRY_COPIED, HEADER, MAGIC } from './qcow2-layout'

const CLUSTER_BITS = 16
const CLUSTER = 2 ** CLUSTER_BITS
const PER_TABLE = CLUSTER / 8
const PER_REFCOUNT_BLOCK = CLUSTER / 2

/**
 * A QCOW2 of version 3 with clusters of 64 KiB, none packed. Clusters follow each other as they come; a table of
 * the second level is written as soon as the disk has passed it, so that only one is held in memory. The first
 * table and the counts of uses come last.
 */
export function qcow2Writer(sink: ImageSink): ImageWriter {
  let next = 1
  const l1: number[] = []
  let table: { index: number; bytes: Uint8Array } | undefined
  let current: { cluster: number; at: number } | undefined

  const closeTable = async () => {
    if (!table) return
    l1[table.index] = next++ * CLUSTER
    await sink.write(l1[table.index], table.bytes)
    table = undefined
  }
  const place = async (cluster: number): Promise<number> => {
    const index = Math.floor(cluster / PER_TABLE)
    if (table?.index !== index) await closeTable()
    table ??= { index, bytes: new Uint8Array(CLUSTER) }
    const at = next++ * CLUSTER
    viewOf(table.bytes).setBigUint64((cluster % PER_TABLE) * 8, BigInt(at) | ENTRY_COPIED)
    current = { cluster, at }
    return at
  }

  return {
    async write(offset, from) {
      const out = gather(sink, from)
      for (let at = 0; at < from.length;) {
        const cluster = Math.floor((offset + at) / CLUSTER)
        const within = offset + at - cluster * CLUSTER
        const length = Math.min(from.length - at, CLUSTER - within)
        const known = current?.cluster === cluster
        if (known || !isZero(from.subarray(at, at + length))) {
          const goal = (known ? current!.at : await place(cluster)) + within
          await out.put(goal, at, at + length)
        }
        at += length
      }
      await out.send()
    },
    async finish(virtualBytes) {
      await closeTable()
      const tables = Math.max(1, Math.ceil(virtualBytes / CLUSTER / PER_TABLE))
      const first = new Uint8Array(Math.ceil((tables * 8) / CLUSTER) * CLUSTER)
      l1.forEach((at, i) => viewOf(first).setBigUint64(i * 8, BigInt(at) | ENTRY_COPIED))
      const l1Offset = next * CLUSTER
      next += first.length / CLUSTER
      // The counts count the clusters that hold them too.
      let blocks = 0
      let roots = 0
      for (;;) {
        const all = next + blocks + roots
        const wantedBlocks = Math.ceil(all / PER_REFCOUNT_BLOCK)
        const wantedRoots = Math.ceil((wantedBlocks * 8) / CLUSTER)
        if (wantedBlocks === blocks && wantedRoots === roots) break
        blocks = wantedBlocks
        roots = wantedRoots
      }
      const refcountOffset = next * CLUSTER
      const blocksAt = next + roots
      const all = next + roots + blocks
      await sink.truncate(all * CLUSTER)
      await sink.write(l1Offset, first)
      const root = new Uint8Array(roots * CLUSTER)
      for (let i = 0; i < blocks; i++) {
        viewOf(root).setBigUint64(i * 8, BigInt((blocksAt + i) * CLUSTER))
        const block = new Uint8Array(CLUSTER)
        const used = Math.min(PER_REFCOUNT_BLOCK, all - i * PER_REFCOUNT_BLOCK)
        for (let c = 0; c < used; c++) block[c * 2 + 1] = 1
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
    },
  }
}
