import { CoreError } from '../errors'

const MOST = 512 * 1024 * 1024

/**
 * Zeroed bytes for part of a file. Throws CoreError beyond 512 MiB: sizes come from the disk, and a larger file
 * is read in parts.
 */
export function allocate(length: number): Uint8Array {
  if (length > MOST) throw new CoreError(`${length} bytes of a file are more than can be read at once.`)
  return new Uint8Array(Math.max(0, length))
}
