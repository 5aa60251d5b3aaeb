import type { DriveSurvey } from './types'

/** Kinds of volumes in which files are made, with the longest file that each can have. */
const MOST_FILE_BYTES: Readonly<Record<string, number>> = {
  ntfs: Infinity,
  exfat: Infinity,
  fat16: 2 ** 32 - 1,
  fat32: 2 ** 32 - 1,
}

/** A volume in which an image can be kept. */
export interface RoomForImages {
  readonly partition: number
  readonly offset: number
  readonly length: number
  /** The largest image that it takes, in bytes. */
  readonly bytes: number
  /** Its kind has no longer files, whatever room there is: the kind as the trade writes it. */
  readonly limitedBy: string | null
}

/** Where an image is kept on a drive: in the volume that takes the largest. Undefined where none takes one. */
export function roomForImages(survey: DriveSurvey): RoomForImages | undefined {
  return roomsForImages(survey)[0]
}

/** Volumes of a drive in which images can be kept, the one that takes the largest first. */
export function roomsForImages(survey: DriveSurvey): RoomForImages[] {
  const rooms = survey.partitions.flatMap(
    ({ number, startBytes, sizeBytes, volume, role, system }): RoomForImages[] => {
      const most = volume && !volume.encrypted ? MOST_FILE_BYTES[volume.kind] : undefined
      // What belongs to a system is no place for files of the shop.
      if (!volume || most === undefined || role !== 'data' || system || volume.state !== 'clean') return []
      const free = Math.max(0, volume.totalBytes - volume.usedBytes)
      return [
        {
          partition: number,
          offset: startBytes,
          length: sizeBytes,
          bytes: Math.min(free, most),
          limitedBy: free > most ? volume.name : null,
        },
      ]
    },
  )
  return rooms.sort((a, b) => b.bytes - a.bytes)
}
