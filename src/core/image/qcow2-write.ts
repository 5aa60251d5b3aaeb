import { isZero } from '../block/device'
import { CoreError } from '../errors'
import { gather } from './gather'
import type { ImageSink, ImageWriter, WriterOptions } from './port'
import { CLUSTER, Qcow2File } from './qcow2-file'
import { ENTRY_COMPRESSED, ENTRY_COPIED } from './qcow2-layout'

/** A QCOW2 with clusters of 64 KiB that follow each other as they come, none packed. */
export function qcow2Writer(sink: ImageSink): ImageWriter {
  const file = new Qcow2File(sink)
  let current: { cluster: number; at: number } | undefined
  return {
    async write(offset, from) {
      const out = gather(sink, from)
      for (const { cluster, within, start, end } of inClusters(offset, from.length)) {
        const known = current?.cluster === cluster
        if (!known && isZero(from.subarray(start, end))) continue
        if (!known) {
          current = { cluster, at: file.take() }
          await file.enter(cluster, BigInt(current.at) | ENTRY_COPIED)
        }
        await out.put(current!.at + within, start, end)
      }
      await out.send()
    },
    finish: (virtualBytes) => file.finish(virtualBytes),
  }
}

/** Clusters that are being packed at once: enough for every core to have one and another one waiting. */
const PACKED_AT_ONCE = 16
const SECTOR = 512

/**
 * A QCOW2 with each cluster packed by deflate where that makes it shorter, packed ones close behind each other.
 * Several are packed at a time, by `options.pack`; they are placed in their order. Throws CoreError without it.
 */
export function packedQcow2Writer(sink: ImageSink, { pack }: WriterOptions): ImageWriter {
  if (!pack) throw new CoreError('Packing needs a program that packs, and there is none here.')
  const file = new Qcow2File(sink)
  const waiting: { cluster: number; plain: Uint8Array; packed: Promise<Uint8Array> }[] = []
  let current: { cluster: number; plain: Uint8Array } | undefined
  /** Where the next packed cluster goes, and the end of the host cluster it begins in. */
  let packedAt = 0
  let packedEnd = 0

  const place = async () => {
    const { cluster, plain, packed: packing } = waiting.shift()!
    const packed = await packing
    if (packed.length > CLUSTER - SECTOR) {
      const at = file.take()
      await file.enter(cluster, BigInt(at) | ENTRY_COPIED)
      await sink.write(at, plain)
      return
    }
    if (packedAt + packed.length > packedEnd && packedEnd !== file.end) packedAt = packedEnd = file.end
    const startsNew = packedAt === packedEnd
    if (!startsNew) file.share(packedAt)
    if (packedAt + packed.length > packedEnd) packedEnd = file.take() + CLUSTER
    const at = packedAt
    packedAt += packed.length
    const more = Math.floor((packedAt - 1) / SECTOR) - Math.floor(at / SECTOR)
    await file.enter(cluster, ENTRY_COMPRESSED | (BigInt(more) << 54n) | BigInt(at))
    await sink.write(at, packed)
  }
  const send = async () => {
    if (!current) return
    const { cluster, plain } = current
    current = undefined
    if (isZero(plain)) return
    const packed = pack(plain)
    // A failure is met when its turn comes; this only keeps it from counting as unhandled until then.
    packed.catch(() => undefined)
    waiting.push({ cluster, plain, packed })
    if (waiting.length >= PACKED_AT_ONCE) await place()
  }

  return {
    async write(offset, from) {
      for (const { cluster, within, start, end } of inClusters(offset, from.length)) {
        if (current?.cluster !== cluster) await send()
        current ??= { cluster, plain: new Uint8Array(CLUSTER) }
        current.plain.set(from.subarray(start, end), within)
      }
    },
    async finish(virtualBytes) {
      await send()
      while (waiting.length > 0) await place()
      await file.finish(virtualBytes)
    },
  }
}

/** A range of the disk cluster by cluster, with the part of the range that each one has. */
function* inClusters(offset: number, length: number) {
  for (let start = 0; start < length;) {
    const cluster = Math.floor((offset + start) / CLUSTER)
    const within = offset + start - cluster * CLUSTER
    const end = start + Math.min(length - start, CLUSTER - within)
    yield { cluster, within, start, end }
    start = end
  }
}
