import type { BlockDevice, Extent } from '../block/device'
import { inOrder, mergeExtents } from '../block/extents'
import { SliceDevice } from '../block/slice'
import { CoreError, orUndefined } from '../errors'
import { openFileSystem } from '../filesystem'
import { checkMap, mapMissesWords } from '../filesystem/map-check'
import { readScheme } from '../scheme'

/** Of a volume that is taken by its map of used blocks: whether that was held against the files, and what it misses. */
export interface MapTaken {
  /** 0 for a file system without a table. */
  readonly partition: number
  readonly checked: boolean
  /** A sentence. */
  readonly finding?: string
}

/**
 * What of a drive has to be taken along when free clusters are left out: everything outside the partitions, the
 * used blocks of every volume that tells them, and every other partition whole. In order, whole sectors. Maps of used
 * blocks are held against the files first: what a map misses is taken along, too. `onMap` is told of each volume that
 * is taken by its map what that came to.
 */
export async function* usedExtentsOf(device: BlockDevice, onMap?: (map: MapTaken) => void): AsyncGenerator<Extent> {
  const reading = await readScheme(device)
  const sector = device.logicalSectorSize
  const places = (reading?.partitions ?? [])
    .filter((p) => p.mbr?.kind !== 'extended')
    .map((p) => ({
      number: p.number,
      start: p.firstLba * sector,
      end: Math.min(device.size, (p.lastLba + 1) * sector),
    }))
    .filter((p) => p.start < p.end)
    .sort((a, b) => a.start - b.start)
  if (!reading) places.push({ number: 0, start: 0, end: device.size })
  let next = 0
  for (const { number, start, end } of places) {
    const told = (map: Omit<MapTaken, 'partition'>) => onMap?.({ partition: number, ...map })
    if (start > next) yield { offset: next, length: start - next }
    // Of partitions that overlap, what the first has covered is not taken twice.
    const from = Math.max(start, next)
    if (from < end) {
      for await (const extent of volumeExtents(device, start, end, told)) yield* clip(extent, from, end, sector)
    }
    next = Math.max(next, end)
  }
  if (next < device.size) yield { offset: next, length: device.size - next }
}

/** The device is asked for its map a stretch at a time, so that a map of any length costs the same memory. */
const WINDOW_BYTES = 1024 * 1024 * 1024

/** The parts of a device that may hold anything but zeros, in order. */
export async function* mappedExtents(device: BlockDevice): AsyncGenerator<Extent> {
  for (let at = 0; at < device.size; at += WINDOW_BYTES) {
    const length = Math.min(WINDOW_BYTES, device.size - at)
    if (device.mapped) yield* await device.mapped(at, length)
    else yield { offset: at, length }
  }
}

/** The parts of `extents` that the device itself may hold anything but zeros in. */
export async function* storedExtents(
  device: BlockDevice,
  extents: AsyncIterable<Extent> | Iterable<Extent>,
): AsyncGenerator<Extent> {
  for await (const extent of mergeExtents(extents)) {
    if (device.mapped) yield* await device.mapped(extent.offset, extent.length)
    else yield extent
  }
}

async function* volumeExtents(
  device: BlockDevice,
  start: number,
  end: number,
  onMap: (map: Omit<MapTaken, 'partition'>) => void,
): AsyncGenerator<Extent> {
  const whole = { offset: start, length: end - start }
  let volume
  try {
    volume = await openFileSystem(new SliceDevice(device, start, end - start))
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
  }
  // A volume that cannot be understood, or was not closed, is taken along as it is.
  if (!volume || volume.state === 'damaged' || volume.mapUnsure) {
    yield whole
    return
  }
  const check = volume.depth === 'files' ? await checkMap(volume).catch(orUndefined) : undefined
  if (volume.depth === 'files')
    onMap({ checked: check !== undefined, ...(check ? { finding: mapMissesWords(check) } : {}) })
  for await (const { offset, length } of inOrder(volume.usedExtents(), check?.missing ?? [])) {
    yield { offset: start + offset, length }
  }
}

function* clip({ offset, length }: Extent, from: number, to: number, sector: number): Generator<Extent> {
  const start = Math.max(from, Math.floor(offset / sector) * sector)
  const end = Math.min(to, Math.ceil((offset + length) / sector) * sector)
  if (start < end) yield { offset: start, length: end - start }
}
