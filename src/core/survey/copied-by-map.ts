import type { PartitionSurvey } from './types'

/** True for a partition that is copied by its map of used blocks, which can be held against its files. */
export function copiedByMap({ volume }: PartitionSurvey): boolean {
  // Of a volume that is taken sector by sector the map does not matter.
  return volume?.depth === 'files' && volume.everySector === undefined
}
