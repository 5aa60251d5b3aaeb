import path from 'node:path'
import * as z from 'zod'
import { DRIVE_MODELS } from '@/bench/catalogue'
import { type Drive, driveName } from '@/core/things/drive'
import { DriveRow } from '../database/models'
import { publish } from '../ground/events'
import { imagesFolder } from '../ground/paths'
import { inBenchQueue } from '../ground/queue'
import { Refusal } from '../ground/refusals'
import { drivesOfAll, withImage } from '../images'
import { ImageNameSchema, imagePath } from '../images/names'
import { fileKey } from '../leases'
import { activeBench } from '.'

export const PutOnBenchSchema = z.object({
  image: ImageNameSchema,
  /** What kind of drive it stands for. */
  model: z.enum(Object.keys(DRIVE_MODELS) as [DriveModelId, ...DriveModelId[]]).default('sata-ssd'),
})

type DriveModelId = keyof typeof DRIVE_MODELS

/** Puts an image on the bench as a drive that lies on the table. Throws Refusal when it is there already. */
export async function putOnBench(input: unknown): Promise<string> {
  const request = PutOnBenchSchema.parse(input)
  return inBenchQueue(() => putInTurn(request))
}

/** The drive that stands for an image; undefined where none does. */
export async function driveOfImage(name: string): Promise<Drive | undefined> {
  const key = fileKey(await imagePath(name))
  return (await drivesOfAll()).find((d) => d.image !== null && fileKey(path.join(imagesFolder(), d.image)) === key)
}

async function putInTurn({ image: name, model }: z.infer<typeof PutOnBenchSchema>): Promise<string> {
  const drives = await drivesOfAll()
  const same = await driveOfImage(name)
  if (same) throw new Refusal('image-on-bench', { name, drive: driveName(same) })
  const drive = await withImage(name, async ({ device, virtualBytes }): Promise<Drive> => {
    const number = 1 + Math.max(0, ...drives.map((d) => Number(/^image-(\d+)$/.exec(d.id)?.[1] ?? 0)))
    return {
      id: `image-${number}`,
      model: path.parse(name).name,
      serial: `IMG-${String(number).padStart(4, '0')}`,
      ...driveOfModel(model),
      sizeBytes: virtualBytes,
      logicalSectorSize: device.logicalSectorSize,
      physicalSectorSize: device.physicalSectorSize,
      encrypted: false,
      purpose: 'customer',
      unreadable: [],
      misstores: [],
      file: null,
      image: name,
      place: { kind: 'table' },
    }
  })
  await DriveRow.create({ id: drive.id, benchId: (await activeBench()).id, data: drive })
  publish({ type: 'changed', moveId: null })
  return drive.id
}

/** The properties that a drive has by its kind. */
export function driveOfModel(id: DriveModelId): Pick<Drive, DriveTrait> {
  const { kind, body, protocol, readBytesPerSecond, writeBytesPerSecond, requestSeconds } = DRIVE_MODELS[id]
  return { kind, body, protocol, readBytesPerSecond, writeBytesPerSecond, requestSeconds }
}

type DriveTrait = 'kind' | 'body' | 'protocol' | 'readBytesPerSecond' | 'writeBytesPerSecond' | 'requestSeconds'
