/** The platform's own comparison, where it has one: more than ten times as quick as a loop. */
const compare = (globalThis as { Buffer?: { compare(a: Uint8Array, b: Uint8Array): number } }).Buffer?.compare
/** Shorter ones are compared before the platform has been asked. */
const SHORT_BYTES = 64

/** True when two stretches of bytes are the same. */
export function sameBytes(a: Uint8Array, b: Uint8Array): boolean {
  if (a.length !== b.length) return false
  if (compare && a.length > SHORT_BYTES) return compare(a, b) === 0
  for (let i = 0; i < a.length; i++) if (a[i] !== b[i]) return false
  return true
}

/** True when every byte is `value`; of none it is true as well. */
export function allBytesAre(bytes: Uint8Array, value: number): boolean {
  // The first is, and each is what the one before it is.
  return bytes.length === 0 || (bytes[0] === value && sameBytes(bytes.subarray(1), bytes.subarray(0, -1)))
}
