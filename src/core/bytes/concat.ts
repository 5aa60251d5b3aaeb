/** Byte arrays one behind the other; `size` bytes where more are wanted than they have, zeros behind them. */
export function concatBytes(parts: readonly Uint8Array[], size?: number): Uint8Array {
  const bytes = new Uint8Array(size ?? parts.reduce((sum, part) => sum + part.length, 0))
  parts.reduce((at, part) => (bytes.set(part, at), at + part.length), 0)
  return bytes
}
