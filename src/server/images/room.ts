import { statfs } from 'node:fs/promises'
import { MIB } from '@/core/bytes/size'

/** Room that is left free on the host whatever is written. */
const MARGIN_BYTES = 256 * MIB

/** Bytes that may be written on the disk that holds a folder. */
export async function roomIn(folder: string): Promise<number> {
  const { bavail, bsize } = await statfs(folder)
  return Math.max(0, bavail * bsize - MARGIN_BYTES)
}
