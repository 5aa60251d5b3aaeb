/** How many bytes that are alike may lie between two that differ before they count as two stretches. */
const GAP = 8
const HEAD_BYTES = 4

/**
 * What of `changed` differs from `base`, of the same length of at most 64 KiB: for each stretch that differs its offset
 * and its length less one, 16 bits each, and its bytes. Undefined where that takes more than half of the chunk.
 */
export function deltaOf(base: Uint8Array, changed: Uint8Array): Uint8Array | undefined {
  const stretches: { from: number; to: number }[] = []
  let bytes = 0
  for (let at = 0; at < changed.length; at++) {
    if (base[at] === changed[at]) continue
    const last = stretches.at(-1)
    if (last && at - last.to < GAP) {
      bytes += at + 1 - last.to
      last.to = at + 1
    } else {
      bytes += HEAD_BYTES + 1
      stretches.push({ from: at, to: at + 1 })
    }
    if (bytes > changed.length / 2) return undefined
  }
  const delta = new Uint8Array(bytes)
  const view = new DataView(delta.buffer)
  let at = 0
  for (const { from, to } of stretches) {
    view.setUint16(at, from, true)
    view.setUint16(at + 2, to - from - 1, true)
    delta.set(changed.subarray(from, to), at + HEAD_BYTES)
    at += HEAD_BYTES + to - from
  }
  return delta
}

/** Lays a delta over bytes `from` up to `from + into.length` of the chunk that it was made against. */
export function layDelta(delta: Uint8Array, from: number, into: Uint8Array): void {
  const view = new DataView(delta.buffer, delta.byteOffset, delta.byteLength)
  for (let at = 0; at < delta.length;) {
    const start = view.getUint16(at, true) - from
    const length = view.getUint16(at + 2, true) + 1
    const bytes = delta.subarray(at + HEAD_BYTES, at + HEAD_BYTES + length)
    at += HEAD_BYTES + length
    const skip = Math.max(0, -start)
    const end = Math.min(length, into.length - start)
    if (end > skip) into.set(bytes.subarray(skip, end), start + skip)
  }
}
