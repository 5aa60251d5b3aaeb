/** Milliseconds since 1970 as FILETIME: tenths of microseconds since 1601. */
export function fileTime(milliseconds: number): bigint {
  return BigInt(Math.round(milliseconds)) * 10_000n + 116_444_736_000_000_000n
}
