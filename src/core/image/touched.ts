import type { BlockDevice, Extent } from '../block/device'
import { SliceDevice } from '../block/slice'
import { CoreError } from '../errors'
import { type FileSystem, openFileSystem } from '../filesystem'
import { walkFolder } from '../filesystem/walk'
import { readScheme } from '../scheme'

/** What lies in some ranges of a disk. */
export interface Touched {
  /** Partition numbers, 0 for a file system without a table. */
  readonly partitions: readonly number[]
  readonly files: readonly { readonly partition: number; readonly path: string }[]
  /** Ranges that lie outside all partitions, such as in the partition table. */
  readonly outside: boolean
  /** Not all files could be looked through: too many, or of a kind whose files are not read. */
  readonly incomplete: boolean
}

const MOST_ENTRIES = 200_000

/** One of several ranges with what lies in it. */
export interface TouchedRange {
  /** Undefined for a range outside all partitions. */
  readonly partition?: number
  readonly files: readonly string[]
}

/** Names the partitions and files that ranges of a disk touch, by the runs of every file. Never rejects for damage. */
export async function touchedBy(device: BlockDevice, ranges: readonly Extent[]): Promise<Touched> {
  const partitions: number[] = []
  const files: { partition: number; path: string }[] = []
  const { outside, incomplete } = await look(device, ranges, {
    partition: (partition) => partitions.push(partition),
    file: (partition, path) => files.push({ partition, path }),
  })
  return { partitions, files, outside, incomplete }
}

/** The same for each range by itself, in one pass over all files. */
export async function touchedByEach(device: BlockDevice, ranges: readonly Extent[]): Promise<TouchedRange[]> {
  const each = ranges.map((): { partition?: number; files: string[] } => ({ files: [] }))
  const of = (hit: Hit) => hit.indices.map((i) => each[i])
  await look(device, ranges, {
    partition: (partition, hit) => of(hit).forEach((range) => (range.partition ??= partition)),
    file: (_, path, hit) => of(hit).forEach((range) => range.files.push(path)),
  })
  return each
}

/** Which of the ranges were met, by their places in the list. */
interface Hit {
  readonly indices: readonly number[]
}

interface Found {
  partition(number: number, hit: Hit): void
  file(partition: number, path: string, hit: Hit): void
}

async function look(device: BlockDevice, ranges: readonly Extent[], found: Found) {
  let incomplete = false
  const places = await placesOf(device)
  for (const { number, start, size } of places) {
    const here = ranges.flatMap((r, index) =>
      r.offset < start + size && r.offset + r.length > start
        ? [{ index, offset: r.offset - start, length: r.length }]
        : [],
    )
    if (here.length === 0) continue
    found.partition(number, { indices: here.map((r) => r.index) })
    try {
      const fileSystem = await openFileSystem(new SliceDevice(device, start, size))
      const whole =
        fileSystem?.fileExtents && (await walk(fileSystem, here, (path, hit) => found.file(number, path, hit)))
      if (!whole) incomplete = true
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
      incomplete = true
    }
  }
  const outside = ranges.some((r) => !places.some((p) => r.offset >= p.start && r.offset < p.start + p.size))
  return { outside, incomplete }
}

async function placesOf(device: BlockDevice): Promise<{ number: number; start: number; size: number }[]> {
  const reading = await readScheme(device)
  if (!reading) return [{ number: 0, start: 0, size: device.size }]
  const sector = device.logicalSectorSize
  return reading.partitions
    .filter((p) => p.mbr?.kind !== 'extended')
    .map((p) => ({
      number: p.number,
      start: p.firstLba * sector,
      size: Math.min((p.lastLba - p.firstLba + 1) * sector, device.size - p.firstLba * sector),
    }))
    .filter((p) => p.size > 0)
}

/** False when not every file could be looked at. */
async function walk(
  fileSystem: FileSystem,
  ranges: readonly (Extent & { readonly index: number })[],
  found: (path: string, hit: Hit) => void,
): Promise<boolean> {
  let whole = true
  const missed = () => void (whole = false)
  for await (const entry of walkFolder(fileSystem, '/', missed, MOST_ENTRIES)) {
    if (entry.kind !== 'file') continue
    try {
      const extents = await fileSystem.fileExtents!(entry.path)
      const met = ranges.filter((r) =>
        extents.some((e) => r.offset < e.offset + e.length && r.offset + r.length > e.offset),
      )
      if (met.length > 0) found(entry.path, { indices: met.map((r) => r.index) })
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
      missed()
    }
  }
  return whole
}
