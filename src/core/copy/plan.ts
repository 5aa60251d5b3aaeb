import { CompositeDevice, type Part } from '../block/composite'
import { ZeroMaskedDevice } from '../block/zero-masked'
import { type BlockDevice, type Extent, type Origin } from '../block/device'
import { inOrder, mergeExtents } from '../block/extents'
import { OverlayDevice } from '../block/overlay'
import { type LostExtent, readAround } from '../block/read-around'
import { readOnly } from '../block/readonly'
import { SliceDevice } from '../block/slice'
import { CoreError, NotSupported, orUndefined } from '../errors'
import { type FileSystem, type FileSystemDriver, openFileSystem, recognise } from '../filesystem'
import { withBackupStart } from '../filesystem/backup-start'
import { checkMap, mapMissesWords } from '../filesystem/map-check'
import { type FitPartition, fitSizes, type Layout } from '../fit/types'
import { gptWrites, type TableWrite } from '../scheme/gpt'
import { mbrWrites } from '../scheme/mbr-write'
import { sleepsOn } from '../survey/idle-files'
import { lowerFirst } from '../words'
import { idleOn, type LeftOutFile } from './idle'
import type { IdleKind } from './idle-kinds'
import { inStep, PIECE_BYTES, ZERO_PIECE_BYTES } from './division'
import { metadataExtents } from './metadata'

/** Runs closer together than this are copied as one: reading on costs less than a new request. */
const MERGE_GAP = 64 * 1024

/** Of the first sector, what is code and not the table. */
const BOOT_CODE_BYTES = 440

/** One step of the work list: bytes of the target, whose content the expected target gives. */
export interface Piece extends Extent {
  /** Number of the partition it belongs to; 0 for what lies between partitions. */
  readonly partition: number
  /** Where the same bytes lie on the source drive. */
  readonly sourceOffset: number
  /** Known to hold only zeros, so that nothing has to be read. */
  readonly zero: boolean
}

/** What of the source a copy takes. */
export interface CopyScope {
  /** Every sector of every partition; of the gaps between them too, where all keep their places. */
  readonly everySector?: boolean
  /** Partitions of the source, by number, of which every sector is taken whatever their maps say. */
  readonly everyOf?: readonly number[]
  /** Does without holding maps of used blocks against the files; they are believed then. */
  readonly mapsUnchecked?: boolean
  /** Page, hibernation and swap files keep their length and read as zeros. */
  readonly skipPageFiles?: boolean
  /** Further kinds of files that keep their length and read as zeros. */
  readonly leaveOut?: readonly IdleKind[]
}

/** What a copy takes of one partition. All in bytes. */
export interface PartScope {
  readonly number: number
  readonly title: string
  readonly bytes: number
  readonly mode: 'used' | 'every'
  /** Of the partition on the source, what is not in use and so not copied; files left out are not in it. */
  readonly skippedBytes: number
  /** Files whose content is left out. */
  readonly leftOut: readonly LeftOutFile[]
  /** Why every sector of it is taken although its kind has a map of used blocks. */
  readonly everySector?: string
  /** Of a part taken by its map: whether that was held against the files, and what was found to be missing in it. */
  readonly map?: 'checked' | 'unchecked' | 'missed'
  readonly mapFinding?: string
}

/** Everything a copy needs, computed before the first byte is written. */
export interface CopyPlan {
  /** What the target will hold between its tables: the source's content in its new places, volumes grown. */
  readonly expected: BlockDevice
  /** The work list, in order of the target's sectors. Each call gives it anew, and the same. */
  pieces(): AsyncIterable<Piece>
  /** Bytes of all pieces. */
  readonly totalBytes: number
  readonly partitions: readonly PartScope[]
  /** The source itself, for reading only. */
  readonly source: BlockDevice
  /** What the volumes of the source keep about their files: bytes of the source. Each call gives it anew. */
  metadata(): AsyncIterable<Extent>
  /** Where bytes of the target between its tables lie on the source. */
  origins(run: Extent): Origin[]
  readonly sourceSectorSize: number
  /** The partition tables, written when all else is in place. */
  readonly tables: readonly TableWrite[]
  /** What the source did not give of what goes into these; zeros stand in its place. */
  readonly lostOfTables: readonly LostExtent[]
}

interface PreparedPart {
  readonly number: number
  readonly title: string
  readonly device: BlockDevice
  readonly targetOffset: number
  readonly sourceOffset: number
  readonly leftOut: PartScope['leftOut']
  /** Length on the source. */
  readonly sourceBytes: number
  /** Behind these bytes the part is new and holds nothing. */
  readonly heldBytes: number
  /** Tells what is in use; absent where every sector is taken. */
  readonly fileSystem?: FileSystem
  readonly everySector?: string
  readonly map?: PartScope['map']
  readonly mapFinding?: string
  /** Used blocks that the volume's map does not have: bytes from the part's start, in order. */
  readonly missing?: readonly Extent[]
}

/**
 * Plans a copy of `source` onto a drive laid out as `layout`. The source is only read; changes that growing
 * and moving make to a volume's records are held in memory. Throws CoreError when source and layout do not
 * belong together.
 */
export async function planCopy(source: BlockDevice, layout: Layout, scope: CopyScope = {}): Promise<CopyPlan> {
  return { ...(await planPartitions(source, layout, scope)), ...(await tablesFor(source, layout)) }
}

/** The same without the tables: what goes into the partitions of a layout, whatever names them. */
export async function planPartitions(
  source: BlockDevice,
  layout: Layout,
  scope: CopyScope = {},
): Promise<Omit<CopyPlan, 'tables' | 'lostOfTables'>> {
  if (source.size !== layout.sourceSizeBytes || source.logicalSectorSize !== layout.sourceSectorSize) {
    throw new CoreError('The source is not the drive this fit was made for.')
  }
  const parts: PreparedPart[] = []
  for (const partition of [...layout.partitions].sort((a, b) => a.firstLba - b.firstLba)) {
    parts.push(await preparePart(readOnly(source), partition, layout, scope))
  }
  if (scope.everySector) parts.push(...gapsOf(readOnly(source), layout))
  parts.sort((a, b) => a.targetOffset - b.targetOffset)
  const assembled: Part[] = parts.map(({ targetOffset, device }) => ({ at: targetOffset, device }))
  const expected = new CompositeDevice(layout.targetSizeBytes, layout.sectorSize, assembled)
  const partitions: PartScope[] = []
  for (const part of parts) {
    let bytes = 0
    for await (const { length } of partExtents(part)) bytes += length
    const { number, title, leftOut, fileSystem, everySector, map, mapFinding } = part
    // Of what nobody sees into, every sector is taken for used.
    const mode = fileSystem && fileSystem.depth !== 'sealed' ? 'used' : 'every'
    const left = leftOut.reduce((sum, file) => sum + file.bytes, 0)
    const skippedBytes = mode === 'used' ? Math.max(0, part.sourceBytes - bytes - left) : 0
    partitions.push({
      number,
      title,
      bytes,
      mode,
      skippedBytes,
      leftOut,
      ...(everySector ? { everySector } : {}),
      ...(map ? { map } : {}),
      ...(mapFinding ? { mapFinding } : {}),
    })
  }
  return {
    expected,
    pieces: () => pieces(parts, expected),
    source: readOnly(source),
    metadata: () => metadataExtents(source),
    origins: (run) => originsOf(parts, run),
    sourceSectorSize: layout.sourceSectorSize,
    totalBytes: partitions.reduce((sum, p) => sum + p.bytes, 0),
    partitions,
  }
}

/** Start-up code in front of the partitions, and the table, the first sector last. */
async function tablesFor(source: BlockDevice, layout: Layout): Promise<Pick<CopyPlan, 'tables' | 'lostOfTables'>> {
  const lostOfTables: LostExtent[] = []
  const front = async (offset: number, length: number) => {
    const bytes = new Uint8Array(length)
    lostOfTables.push(...(await readAround(source, offset, bytes)))
    return bytes
  }
  const { scheme, startArea, sectorSize, diskGuid, diskSignature, partitions, extended, hybrid } = layout
  const bootCode = startArea.bootCode ? (await front(0, sectorSize)).subarray(0, BOOT_CODE_BYTES) : undefined
  if (scheme === 'gpt') {
    const table = { diskGuid, entryCount: 128, entrySize: 128, partitions, hybrid, bootCode }
    return { tables: gptWrites(layout.targetSizeBytes, sectorSize, table), lostOfTables }
  }
  const sectorsOf = (p: FitPartition) => ({
    type: p.mbr!.type,
    active: p.mbr!.active,
    number: p.number,
    firstLba: p.firstLba,
    sectors: p.lastLba - p.firstLba + 1,
    recordLba: p.mbr!.recordLba,
  })
  const primary = partitions.filter((p) => p.mbr?.kind === 'primary').map(sectorsOf)
  const logical = partitions.filter((p) => p.mbr?.kind === 'logical').map(sectorsOf)
  const container = extended && {
    number: extended.number,
    firstLba: extended.firstLba,
    sectors: extended.lastLba - extended.firstLba + 1,
    logical,
  }
  const writes = mbrWrites(
    { diskSignature, bootCode, primary, ...(container ? { extended: container } : {}) },
    sectorSize,
  )
  const stageBytes = startArea.lastLba * sectorSize
  const stages = stageBytes > 0 ? [{ offset: sectorSize, bytes: await front(sectorSize, stageBytes) }] : []
  const [first, ...records] = writes
  return { tables: [...stages, ...records, first], lostOfTables }
}

/** Bytes of a partition that are read where every sector of it is: never more than the source has. */
export function everyBytes(partition: FitPartition, layout: Layout): number {
  const { before, after } = fitSizes(partition, layout)
  return Math.min(before, after)
}

/** Bytes of a partition of the target up to which it may hold something; what is behind them is new and empty. */
function heldBytes(partition: FitPartition, layout: Layout): number {
  const { before, after } = fitSizes(partition, layout)
  return partition.resizes ? after : Math.min(before, after)
}

async function preparePart(
  source: BlockDevice,
  partition: FitPartition,
  layout: Layout,
  scope: CopyScope,
): Promise<PreparedPart> {
  const { sectorSize } = layout
  const sourceOffset = partition.sourceFirstLba * layout.sourceSectorSize
  const { before, after } = fitSizes(partition, layout)
  const place = new SliceDevice(source, sourceOffset, before)
  const slice = (await withBackupStart(place, recognise)) ?? place
  const { number, title } = partition
  const common = {
    number,
    title,
    sourceBytes: before,
    heldBytes: heldBytes(partition, layout),
    sourceOffset,
    targetOffset: partition.firstLba * sectorSize,
    leftOut: [],
  }
  const every = scope.everySector || scope.everyOf?.includes(partition.sourceNumber)
  const { driver, fileSystem: present, everySector } = await lookInto(slice)
  if (!driver) {
    if (after < before) throw new NotSupported(`${partition.title} cannot be made smaller: its content is not known.`)
    return { ...common, device: after > before ? new OverlayDevice(slice, after) : slice }
  }
  const moved = partition.firstLba !== partition.sourceFirstLba
  if (everySector !== undefined) {
    // Its map may miss what its files use, so nothing of it is interpreted but where it starts.
    if (partition.resizes) throw new CoreError(`${partition.title} keeps its size: ${lowerFirst(everySector)}`)
    const fitted = new OverlayDevice(await cut(slice, after, partition, present), after)
    if (moved) await driver.relocate?.(fitted, partition.firstLba).catch(orUndefined)
    return { ...common, device: fitted, ...(every ? {} : { everySector }) }
  }
  if (partition.resizes && (await sleepsOn(present!))) {
    throw new CoreError(`${partition.title} keeps its size: it holds a system that sleeps.`)
  }
  const byMap = every ? {} : await heldAgainstFiles(present!, partition, scope)
  const read = async (volume: BlockDevice): Promise<PreparedPart> => {
    const device = partition.label === undefined ? volume : await called(volume, driver, partition.label)
    if (every) return { ...common, device }
    const fileSystem = device === slice ? present! : (await openFileSystem(device))!
    const { files, extents } = await idleOn(fileSystem, leftOutKinds(scope))
    if (files.length === 0) return { ...common, ...byMap, device, fileSystem }
    return { ...common, ...byMap, device: new ZeroMaskedDevice(device, extents), fileSystem, leftOut: files }
  }
  if (after === before && !moved) return read(slice)
  const resized = partition.resizes
    ? await driver.resize!(slice, after)
    : new OverlayDevice(await cut(slice, after, partition, present), after)
  if (moved) await driver.relocate?.(resized, partition.firstLba)
  return read(resized)
}

/** The volume with another label, in memory. */
async function called(volume: BlockDevice, driver: FileSystemDriver, label: string): Promise<BlockDevice> {
  if (!driver.relabel) throw new NotSupported(`The label of ${driver.name} is not written here.`)
  const overlay = new OverlayDevice(volume)
  await driver.relabel(overlay, label)
  return overlay
}

function leftOutKinds({ skipPageFiles, leaveOut = [] }: CopyScope): readonly IdleKind[] {
  return skipPageFiles ? ['page', 'hibernation', ...leaveOut] : leaveOut
}

/** Holds a volume's map against its files. Where it misses some, both together are copied, and its size is kept. */
async function heldAgainstFiles(
  fileSystem: FileSystem,
  { title, resizes }: FitPartition,
  { mapsUnchecked = false }: CopyScope,
): Promise<Pick<PreparedPart, 'map' | 'mapFinding' | 'missing'>> {
  if (fileSystem.depth !== 'files') return {}
  const check = mapsUnchecked ? undefined : await checkMap(fileSystem).catch(orUndefined)
  if (!check) return { map: 'unchecked' }
  const words = mapMissesWords(check)
  if (words === undefined) return { map: 'checked' }
  if (resizes) throw new CoreError(`${title} keeps its size: ${lowerFirst(words)}`)
  return { map: 'missed', mapFinding: words, missing: check.missing }
}

/**
 * What is on a partition, as far as it can be told. `everySector` says why its map of used blocks is of no use: one
 * volume that is damaged or cannot be read does not keep the others from being copied by theirs.
 */
async function lookInto(
  slice: BlockDevice,
): Promise<{ driver?: FileSystemDriver; fileSystem?: FileSystem; everySector?: string }> {
  let driver: FileSystemDriver | undefined
  try {
    driver = await recognise(slice)
    const fileSystem = await driver?.open(slice)
    const everySector = fileSystem?.state === 'damaged' ? 'Its own records are damaged.' : fileSystem?.mapUnsure
    return { driver, fileSystem, ...(everySector === undefined ? {} : { everySector }) }
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
    return { driver, everySector: error.message }
  }
}

/** What lies between the partitions, where each has the place and the length that it had. */
function gapsOf(source: BlockDevice, layout: Layout): PreparedPart[] {
  const kept =
    layout.sectorSize === layout.sourceSectorSize &&
    layout.partitions.every((p) => p.firstLba === p.sourceFirstLba && p.lastLba === p.sourceLastLba)
  if (!kept) return []
  return layout.gaps.flatMap(({ firstLba, lastLba }) => {
    const offset = firstLba * layout.sectorSize
    const end = Math.min((lastLba + 1) * layout.sectorSize, source.size)
    if (offset >= end) return []
    const device = new SliceDevice(source, offset, end - offset)
    const places = { targetOffset: offset, sourceOffset: offset }
    const sizes = { sourceBytes: device.size, heldBytes: device.size }
    return [{ number: 0, title: 'Unallocated', device, ...places, ...sizes, leftOut: [] }]
  })
}

/** The volume as it is where its partition has become smaller, which it can as long as nothing of it is cut off. */
async function cut(
  slice: BlockDevice,
  size: number,
  { title }: FitPartition,
  volume: FileSystem | undefined,
): Promise<BlockDevice> {
  if (size >= slice.size) return slice
  if (!volume || volume.totalBytes > size) {
    throw new NotSupported(`${title} cannot be made smaller: its file system stays as it is.`)
  }
  return new SliceDevice(slice, 0, size)
}

/** Used runs of a part, or all of it where no file system tells. Bytes from the part's start. */
async function* partExtents(part: PreparedPart): AsyncGenerator<Extent> {
  const { fileSystem, heldBytes, sourceBytes, device, missing = [] } = part
  if (!fileSystem) {
    const own = Math.min(heldBytes, sourceBytes)
    yield { offset: 0, length: own }
    // Behind what the source has there is only what growing made of it.
    const rest = { offset: own, length: heldBytes - own }
    if (rest.length > 0) yield* device.mapped ? await device.mapped(rest.offset, rest.length) : [rest]
    return
  }
  for await (const { offset, length } of mergeExtents(inOrder(fileSystem.usedExtents(), missing), MERGE_GAP)) {
    if (offset < heldBytes) yield { offset, length: Math.min(length, heldBytes - offset) }
  }
}

/** Where a byte of a part lies on the partition it was made of. */
function originOf(device: BlockDevice, offset: number): number {
  for (const { from } of device.origins?.(offset, 1) ?? []) return from
  return offset
}

function originsOf(parts: readonly PreparedPart[], { offset, length }: Extent): Origin[] {
  return parts.flatMap((part) => {
    const from = Math.max(offset, part.targetOffset) - part.targetOffset
    const to = Math.min(offset + length, part.targetOffset + part.device.size) - part.targetOffset
    if (from >= to) return []
    const below = part.device.origins?.(from, to - from) ?? [{ at: from, from, length: to - from }]
    return [...below].map((o) => ({ at: o.at + part.targetOffset, from: o.from + part.sourceOffset, length: o.length }))
  })
}

async function* pieces(parts: readonly PreparedPart[], expected: BlockDevice): AsyncGenerator<Piece> {
  for (const part of parts) {
    for await (const { offset, length } of partExtents(part)) {
      for (const stretch of inStep(offset, offset + length, ZERO_PIECE_BYTES)) {
        yield* byMapping(part, expected, stretch.offset, stretch.length)
      }
    }
  }
}

/** Splits a stretch into what may hold data and what is known to be zeros. */
async function* byMapping(
  part: PreparedPart,
  expected: BlockDevice,
  at: number,
  length: number,
): AsyncGenerator<Piece> {
  const { targetOffset, sourceOffset } = part
  const piece = (from: number, to: number, zero: boolean): Piece => ({
    offset: targetOffset + from,
    sourceOffset: sourceOffset + originOf(part.device, from),
    length: to - from,
    partition: part.number,
    zero,
  })
  const mapped = expected.mapped
    ? await expected.mapped(targetOffset + at, length)
    : [{ offset: targetOffset + at, length }]
  let next = at
  for (const extent of mapped) {
    const from = extent.offset - targetOffset
    if (from > next) yield piece(next, from, true)
    for (const { offset, length: bytes } of inStep(from, from + extent.length, PIECE_BYTES))
      yield piece(offset, offset + bytes, false)
    next = from + extent.length
  }
  if (next < at + length) yield piece(next, at + length, true)
}
