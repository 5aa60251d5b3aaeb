import { type BlockDevice, writeBytes } from '../../block/device'
import { BadStructure, CoreError } from '../../errors'

/** A stretch of a stream: `length` clusters from `lcn`, or a hole where `lcn` is null. */
export interface Run {
  readonly lcn: number | null
  readonly length: number
}

/**
 * Decodes a run list. `totalClusters` bounds every run; `expected` is the number of clusters the attribute
 * claims. Throws BadStructure when a run leaves the volume or the sum differs.
 */
export function decodeRuns(bytes: Uint8Array, totalClusters: number, expected: number, offset = 0): Run[] {
  const runs: Run[] = []
  let at = 0
  let lcn = 0
  let sum = 0
  const bad = (why: string) => new BadStructure('run list', offset, why)
  for (;;) {
    if (at >= bytes.length) throw bad('it has no end')
    const header = bytes[at++]
    if (header === 0) break
    const lengthBytes = header & 15
    const lcnBytes = header >> 4
    if (lengthBytes === 0 || lengthBytes > 8 || lcnBytes > 8 || at + lengthBytes + lcnBytes > bytes.length) {
      throw bad(`run ${runs.length} has the header ${header.toString(16)}`)
    }
    const length = signed(bytes, at, lengthBytes)
    at += lengthBytes
    if (length <= 0) throw bad(`run ${runs.length} is ${length} clusters long`)
    sum += length
    if (!Number.isSafeInteger(sum) || sum > expected)
      throw bad(`it runs past the ${expected} clusters of its attribute`)
    if (lcnBytes === 0) {
      runs.push({ lcn: null, length })
      continue
    }
    lcn += signed(bytes, at, lcnBytes)
    at += lcnBytes
    if (!Number.isSafeInteger(lcn) || lcn < 0 || lcn + length > totalClusters) {
      throw bad(`run ${runs.length} lies outside the volume (cluster ${lcn}, ${length} long)`)
    }
    runs.push({ lcn, length })
  }
  if (sum !== expected) throw bad(`it covers ${sum} clusters where its attribute has ${expected}`)
  return runs
}

/** Encodes a run list with its closing zero, each number in as few bytes as hold it. */
export function encodeRuns(runs: readonly Run[]): Uint8Array {
  const out: number[] = []
  let previous = 0
  for (const { lcn, length } of runs) {
    const lengthBytes = minimal(length)
    const delta = lcn === null ? [] : minimal(lcn - previous)
    out.push((delta.length << 4) | lengthBytes.length, ...lengthBytes, ...delta)
    if (lcn !== null) previous = lcn
  }
  out.push(0)
  return Uint8Array.from(out)
}

/** Bytes that one run takes in a list, behind one that ended at `previous`. */
export function encodedLength({ lcn, length }: Run, previous: number): number {
  return 1 + minimal(length).length + (lcn === null ? 0 : minimal(lcn - previous).length)
}

/** Joins neighbouring runs that follow each other on the volume. */
export function joinRuns(runs: readonly Run[]): Run[] {
  const joined: { lcn: number | null; length: number }[] = []
  for (const run of runs) {
    const last = joined.at(-1)
    const follows = last && (last.lcn === null ? run.lcn === null : run.lcn === last.lcn + last.length)
    if (last && follows) last.length += run.length
    else joined.push({ ...run })
  }
  return joined
}

/** The part of a run list that covers `count` clusters from `first` of its stream. */
export function clipRuns(runs: readonly Run[], first: number, count: number): Run[] {
  const clipped: Run[] = []
  let start = 0
  for (const { lcn, length } of runs) {
    const from = Math.max(start, first)
    const to = Math.min(start + length, first + count)
    if (from < to) clipped.push({ lcn: lcn === null ? null : lcn + from - start, length: to - from })
    start += length
    if (start >= first + count) break
  }
  return clipped
}

/** Clusters of a run list. */
export function clustersOf(runs: readonly Run[]): number {
  return runs.reduce((sum, run) => sum + run.length, 0)
}

/**
 * Writes bytes of a stream from byte `offset` of it on, wherever its runs place them. Throws CoreError when they end
 * before the bytes do, or a hole would have to be written.
 */
export async function writeRuns(
  device: BlockDevice,
  runs: readonly Run[],
  clusterSize: number,
  bytes: Uint8Array,
  offset = 0,
): Promise<void> {
  const end = offset + bytes.length
  let start = 0
  let written = 0
  for (const { lcn, length } of runs) {
    const from = Math.max(offset, start)
    const to = Math.min(end, start + length * clusterSize)
    if (from < to) {
      if (lcn === null) throw new CoreError('A stream of the file system has a hole where it is to be written.')
      await writeBytes(device, lcn * clusterSize + from - start, bytes.subarray(from - offset, to - offset))
      written += to - from
    }
    start += length * clusterSize
    if (start >= end) break
  }
  if (written < bytes.length) throw new CoreError('A stream of the file system is shorter than what is to be written.')
}

function signed(bytes: Uint8Array, at: number, count: number): number {
  let value = 0n
  for (let i = 0; i < count; i++) value |= BigInt(bytes[at + i]) << BigInt(8 * i)
  return Number(BigInt.asIntN(8 * count, value))
}

function minimal(value: number): number[] {
  let rest = BigInt(value)
  const bytes: number[] = []
  for (;;) {
    const byte = Number(rest & 0xffn)
    bytes.push(byte)
    rest >>= 8n
    // The last byte carries the sign, so it must agree with what is left.
    if ((rest === 0n && byte < 0x80) || (rest === -1n && byte >= 0x80)) return bytes
  }
}
