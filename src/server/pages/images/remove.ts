import { rm } from 'node:fs/promises'
import path from 'node:path'
import { recordName } from '@/core/copy/image-record'
import { driveName } from '@/core/things/drive'
import { publish } from '../../ground/events'
import { inBenchQueue } from '../../ground/queue'
import { Refusal } from '../../ground/refusals'
import { drivesOfAll, listImages } from '../../images'
import { imagePath, ImageNameSchema, readyFolder } from '../../images/names'
import { fileKey, leasableImage, withLease } from '../../leases'

/** Deletes an image. Rejects with Refusal, nothing deleted, where a drive stands for it, another image builds on it, or a job uses it. */
export async function removeImage(input: unknown): Promise<void> {
  const name = ImageNameSchema.parse(input)
  await inBenchQueue(async () => {
    const key = fileKey(await imagePath(name))
    const folder = await readyFolder()
    await refuseRestedOn(name, key)
    const write = [{ keys: [key], name: `The image ${name}` }]
    await withLease({ purpose: `deleting ${name}`, write }, async () => {
      await rm(path.join(folder, name))
      await rm(path.join(folder, recordName(name)), { force: true })
    })
  })
  publish({ type: 'changed', moveId: null })
}

/** Throws Refusal where a drive stands for an image, or another image builds on it: then it stays as it is. */
export async function refuseRestedOn(name: string, key: string): Promise<void> {
  const folder = await readyFolder()
  const drive = (await drivesOfAll()).find((d) => d.image !== null && fileKey(path.join(folder, d.image)) === key)
  if (drive) throw new Refusal('image-is-drive', { name, drive: driveName(drive) })
  for (const other of await listImages()) {
    if (other.name === name || !other.opened) continue
    const place = await imagePath(other.name).catch(() => undefined)
    if (place && (await leasableImage(place, other.name)).keys.includes(key) && other.opened.parent)
      throw new Refusal('image-built-on', { name, child: other.name })
  }
}
