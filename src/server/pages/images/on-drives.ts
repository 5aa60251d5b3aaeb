import * as z from 'zod'
import type { ImageOnDrive, ImageStoreChoice } from '@/core/image/views'
import { roomsForImages } from '@/core/survey/room-for-images'
import type { DriveSurvey } from '@/core/survey/types'
import { berthOf } from '@/core/things/bench'
import { type Drive, driveName, hasBytes } from '@/core/things/drive'
import { publish } from '../../ground/events'
import { inBenchQueue } from '../../ground/queue'
import { Refusal } from '../../ground/refusals'
import { imagesFolder } from '../../ground/paths'
import { ImageNameSchema } from '../../images/names'
import { runTask } from '../../jobs/threads'
import { leasableDrive, withLease } from '../../leases'
import { moveClaims } from '../../moves/claims'
import { folderBytes } from '../../moves/media'
import { reservedDrives } from '../../moves/reserved-drives'
import { activeBench, benchOfDrive, benchState, driveById } from '../../world'
import { knownOf } from '../../world/known'
import { surveyOf } from '../../world/looked-at'

/** A volume of a drive that images are kept in; null is the images folder of this host. */
export const StoreSchema = z
  .object({ driveId: z.string().min(1).max(60), partition: z.number().int().positive() })
  .nullable()
export type StoreChoice = z.infer<typeof StoreSchema>

/** The images folder, as a thread of its own reaches it. */
export const imagesFolderBytes = () => ({ kind: 'host' as const, path: imagesFolder() })

/** A store by its choice. Throws Refusal where the drive has no such volume that files are made in. */
export async function volumeStore({ driveId, partition }: NonNullable<StoreChoice>) {
  const drive = await driveById(driveId)
  const survey = await surveyOf({ kind: 'drives', id: driveId })
  const volume = roomsForImages(survey).find((room) => room.partition === partition)
  if (!volume) throw new Refusal('store-no-volume', { drive: driveName(drive), partition })
  return { drive, folder: folderBytes({ kind: 'volume', drive, volume }), freeBytes: volume.bytes }
}

/** The same to be written: throws Refusal also for a drive that a move has, or that is kept as a way back. */
export async function volumeToWrite(store: NonNullable<StoreChoice>) {
  const found = await volumeStore(store)
  const { id: benchId } = await activeBench()
  const why = (await reservedDrives(await benchOfDrive(store.driveId), benchId, undefined)).get(store.driveId)
  if (why !== undefined) throw new Refusal('store-reserved', { why })
  return found
}

/** The volumes of transfer drives in reach that take images. */
export async function storeChoices(): Promise<ImageStoreChoice[]> {
  const bench = await benchState()
  const inReach = bench.drives.filter(
    (drive) => drive.purpose === 'transfer' && hasBytes(drive) && berthOf(drive, bench).link !== undefined,
  )
  const found = await Promise.all(inReach.map(async (drive) => ({ drive, room: (await knownOf(drive)).room })))
  return found.flatMap(({ drive, room }) =>
    room ? [{ driveId: drive.id, partition: room.partition, name: driveName(drive), freeBytes: room.bytes }] : [],
  )
}

/** What the page of a drive shows of images: those on it, and where one of it can be kept. */
export async function imagesOf(driveId: string, survey: DriveSurvey) {
  return { images: await imagesOnDrive(await driveById(driveId), survey), stores: await storeChoices() }
}

/** The images on a drive, in the volumes that its survey found. */
export async function imagesOnDrive(drive: Drive, survey: DriveSurvey): Promise<ImageOnDrive[]> {
  if (!hasBytes(drive)) return []
  const volumes = roomsForImages(survey).map((volume) => ({
    partition: volume.partition,
    folder: folderBytes({ kind: 'volume', drive, volume }),
  }))
  return volumes.length > 0 ? runTask('imagesInVolumes', volumes) : []
}

/** Deletes an image on a drive. Rejects with Refusal, nothing deleted, where a move or a job has use for it. */
export async function removeFromDrive(store: NonNullable<StoreChoice>, input: unknown): Promise<void> {
  const name = ImageNameOnDriveSchema.parse(input)
  await inBenchQueue(async () => {
    const { drive, folder } = await volumeToWrite(store)
    const found = (await imagesOnDrive(drive, await surveyOf({ kind: 'drives', id: drive.id }))).find(
      (image) => image.partition === store.partition && image.name === name,
    )
    if (!found) throw new Refusal('image-not-on-drive', { name, drive: driveName(drive) })
    await refuseNeeded(drive, name)
    const write = [await leasableDrive(drive)]
    await withLease({ purpose: `deleting ${name}`, write }, () => runTask('removeStored', { name, folder }))
  })
  publish({ type: 'changed', moveId: null })
}

/** What was left unfinished begins with a dot. */
const ImageNameOnDriveSchema = z.union([
  ImageNameSchema,
  z
    .string()
    .max(300)
    .regex(/^\.[^/\\\0]+\.partial$/),
])

/** Throws Refusal where an open move makes this image, or has still to read it. */
async function refuseNeeded(drive: Drive, name: string): Promise<void> {
  const claim = (await moveClaims((await activeBench()).id)).find(
    ({ handedOver, images }) =>
      !handedOver &&
      images.some((image) => image.driveId === drive.id && [image.name, `${image.name}.unfinished`].includes(name)),
  )
  if (claim) throw new Refusal('image-of-move', { name, move: `${claim.name}, ${claim.customer}` })
}
