import { MIB } from '../bytes/size'
import type { PartitionSurvey } from '../survey/types'

/** What an EFI system partition takes that is made for a system which had none. */
export const ESP_BYTES = 100 * MIB

/** Bytes between which a partition's size can be chosen, and why not beyond. */
export interface Limits {
  readonly least: number
  /** Why not less: goes on from "cannot be smaller, because". */
  readonly whyLeast: string
  /** The most its volume can fill; Infinity where there is no such end. */
  readonly most: number
  /** The volume goes with the partition's size. */
  readonly follows: boolean
  /** Why its size must not be changed now, as a sentence; undefined where it may. */
  readonly notNow?: string
}

/** What can be done with the size of a partition, from what the survey knows of it. */
export function limitsOf(partition: PartitionSurvey): Limits {
  const { volume, sizeBytes, title } = partition
  const fixed = { least: sizeBytes, most: Infinity, follows: false }
  if (!volume) return { ...fixed, whyLeast: 'what is in it is not known' }
  if (volume.encrypted) return { ...fixed, whyLeast: 'it is encrypted, and only its own system can look into it' }
  if (volume.state === 'damaged') return { ...fixed, whyLeast: 'its own records are damaged' }
  const follows = volume.canGrow || volume.canShrink
  if (follows && volume.state === 'dirty') {
    const notNow = `${title} was not closed cleanly, so its size is not changed before its system has checked it.`
    return { ...fixed, follows, whyLeast: 'it was not closed cleanly', notNow }
  }
  if (follows && volume.map === 'missed') {
    const notNow = `The map of used blocks of ${title} misses some that its files use, so its size is not changed before its system has checked it.`
    return { ...fixed, follows, whyLeast: 'its map of used blocks misses some', notNow }
  }
  if (follows && partition.idleFiles.some((f) => f.asleep)) {
    const notNow = `${title} holds a system that sleeps, and its size must not be changed before that was started and shut down.`
    return { ...fixed, follows, whyLeast: 'a system sleeps on it', notNow }
  }
  const most = volume.canGrow ? (volume.mostBytes ?? Infinity) : Infinity
  if (volume.canShrink && volume.shrunkBytes !== undefined) {
    const least = Math.min(sizeBytes, Math.max(volume.shrunkBytes, 4096))
    return { least, most, follows, whyLeast: volume.shrunkMargin ?? 'that is what its files take' }
  }
  // A volume that does not fill its partition leaves the rest of it to be taken.
  const least = Math.min(sizeBytes, volume.totalBytes)
  const kind = volume.name || 'file system'
  return { least, most, follows, whyLeast: `a volume with ${kind} is not made smaller here` }
}

/** How the system itself takes the rest of a partition that its volume was not grown into. */
export function howToTake(partition: PartitionSurvey): string {
  const kind = partition.volume?.kind ?? ''
  if (partition.volume?.encrypted && kind.startsWith('luks')) {
    return 'its system can take the rest by enlarging the encrypted volume, then the file system in it'
  }
  if (partition.volume?.encrypted) return 'its system can take the rest by extending the volume once it is open'
  if (kind === 'hfsplus' || kind === 'apfs')
    return 'its system can take the rest by enlarging the volume in its own disk settings'
  if (kind === 'lvm') return 'its system can take the rest by enlarging the physical volume'
  if (kind === 'swap') return 'its system can take the rest by making the swap area anew'
  return 'its system can take the rest with its own means'
}
