import type { Extent } from '../block/device'
import { unionExtents } from '../block/extents'
import { rangeIsSet, setBits } from './bitmap'
import type { FileSystem } from './port'

/** What holding a volume's map of used blocks against its files came to. */
export interface MapCheck {
  /** Stretches that files use and the map has as free, in order: bytes of the volume. */
  readonly missing: readonly Extent[]
  /** The files that use them, as far as they can be named; at most MOST_NAMED. */
  readonly files: readonly string[]
  /** Files and structures that were looked at. */
  readonly looked: number
}

/** So many files are named. */
const MOST_NAMED = 20
/** A map of more clusters than this is not held in memory. */
const MOST_CLUSTERS = 2 ** 32

/**
 * Holds the map of used blocks against all that the volume's records say is used: a volume may call itself clean and
 * have a map that misses blocks of its files, and a copy by such a map has holes. Undefined where the kind cannot tell
 * what its files use, or the volume is too large for it. Rejects as the volume's reading does.
 */
export async function checkMap(
  fileSystem: FileSystem,
  onLooked?: (count: number) => void,
): Promise<MapCheck | undefined> {
  const { clusterSize, totalBytes, clusterOrigin = 0 } = fileSystem
  const clusters = Math.ceil((totalBytes - clusterOrigin) / clusterSize)
  if (!fileSystem.claims || clusters > MOST_CLUSTERS) return undefined
  const used = new Uint8Array(Math.ceil(clusters / 8) + 1)
  const first = ({ offset }: Extent) => Math.max(0, Math.floor((offset - clusterOrigin) / clusterSize))
  const count = (extent: Extent) =>
    Math.ceil((extent.offset + extent.length - clusterOrigin) / clusterSize) - first(extent)
  for await (const extent of fileSystem.usedExtents()) {
    const from = first(extent)
    // What lies in front of the clusters, or behind them, has no place in the map.
    const length = Math.min(count(extent), clusters - from)
    if (length > 0) setBits(used, from, length)
  }
  const missing: Extent[] = []
  const files: string[] = []
  let looked = 0
  for await (const { extents, name } of fileSystem.claims()) {
    if (++looked % 1000 === 0) onLooked?.(looked)
    const free = extents.filter((extent) => !rangeIsSet(used, first(extent), count(extent)))
    if (free.length === 0) continue
    missing.push(...free)
    if (files.length < MOST_NAMED) files.push(await name())
  }
  return { missing: unionExtents(missing, []), files, looked }
}

/** What a map that misses something means, as a sentence; undefined for one that misses nothing. */
export function mapMissesWords({ missing, files }: MapCheck): string | undefined {
  if (missing.length === 0) return undefined
  const names = files.slice(0, 3).join(', ')
  const more = files.length > 3 ? ' and others' : ''
  return `Its map of used blocks misses blocks that its files use (${names}${more}). A file-system check is due.`
}
