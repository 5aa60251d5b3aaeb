import type { ReadAroundDevice } from '../block/read-around-device'
import { touchedBy } from './touched'

/** Sectors of a disk that did not read, and the files that they belong to. */
export interface LostInImage {
  readonly sectors: number
  readonly files: readonly { readonly partition: number; readonly path: string }[]
}

/** What of a device was asked for and did not read, with the files it belongs to. */
export async function lostOf(device: ReadAroundDevice): Promise<LostInImage> {
  const { files } = device.lost.length > 0 ? await touchedBy(device, device.lost) : { files: [] }
  return { sectors: device.lostSectors, files }
}
