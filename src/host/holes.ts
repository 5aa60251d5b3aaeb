import type { Extent } from '@/core/block/device'

/** `lseek(2)` of the host, or undefined where it cannot be called. */
type Seek = (descriptor: number, offset: number, whence: number) => number

const SEEK_DATA = 3
const SEEK_HOLE = 4

let seek: Promise<Seek | undefined> | undefined

/** Node itself cannot ask a file where its holes are. Only Linux numbers the two questions so. */
async function loadSeek(): Promise<Seek | undefined> {
  if (process.platform !== 'linux') return undefined
  try {
    const { default: koffi } = await import('koffi')
    for (const name of ['libc.so.6', 'libc.so']) {
      try {
        const call = koffi.load(name).func('int64_t lseek(int fd, int64_t offset, int whence)')
        return (descriptor, offset, whence) => Number(call(descriptor, offset, whence))
      } catch {
        continue
      }
    }
  } catch {
    // The package has no binary for this machine: files are then read with their holes.
  }
  return undefined
}

/**
 * The parts of a range of a file that are not holes, in order; undefined where the host cannot tell. Whole sectors
 * of 4 KiB.
 */
export async function dataExtents(descriptor: number, offset: number, length: number): Promise<Extent[] | undefined> {
  const call = await (seek ??= loadSeek())
  if (!call) return undefined
  const extents: Extent[] = []
  const end = offset + length
  for (let at = offset; at < end;) {
    const data = call(descriptor, at, SEEK_DATA)
    // Behind the last data the call fails; whether for that or another reason, a plain question tells.
    if (data < 0) {
      if (extents.length === 0 && call(descriptor, offset, SEEK_HOLE) < 0) return undefined
      break
    }
    if (data >= end) break
    const hole = call(descriptor, data, SEEK_HOLE)
    if (hole <= data) return undefined
    const from = Math.max(offset, Math.floor(data / 4096) * 4096)
    const to = Math.min(end, Math.ceil(hole / 4096) * 4096)
    extents.push({ offset: from, length: to - from })
    at = to
  }
  return extents
}
