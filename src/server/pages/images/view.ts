import { formatSize } from '@/core/bytes/size'
import { driveName, hasBytes } from '@/core/things/drive'
import { imagesFolder } from '../../ground/paths'
import { Refusal } from '../../ground/refusals'
import { listImages } from '../../images'
import { unfinishedUploads } from '../../images/upload'
import { benchState } from '../../world'
import { type LookedAt, surveyOf } from '../../world/looked-at'
import { listImageJobs } from './jobs'
import { storeChoices } from './on-drives'

/** A list of more is of no use to choose from. */
const MOST_COMPARABLE = 200

/** What the page of all images shows. */
export async function imagesView() {
  const { drives } = await benchState()
  return {
    folder: imagesFolder(),
    images: await listImages(),
    jobs: await listImageJobs(),
    unfinished: await unfinishedUploads(),
    stores: await storeChoices(),
    drives: drives
      .filter((d) => d.file !== null || d.image !== null || d.kernel?.path != null)
      .map((d) => ({ id: d.id, name: driveName(d), serial: d.serial, sizeBytes: d.sizeBytes })),
  }
}

/** What the page of one image shows. Throws Refusal when there is none of that name. */
export async function imageView(name: string) {
  const images = await listImages()
  const image = images.find((i) => i.name === name)
  if (!image) throw new Refusal('image-unknown', { name })
  if (!image.opened) {
    if (image.sentence) throw new Refusal('image-not-opened', { why: image.sentence })
    throw new Refusal('image-packed', { name, packing: image.packing ?? '' })
  }
  const survey = await surveyOf({ kind: 'images', id: name })
  return {
    image,
    survey,
    comparable: await comparableWith({ kind: 'images', id: name }),
    drive: {
      name,
      serial: image.opened.format,
      place: `${formatSize(image.hostBytes)} on this host`,
      sizeBytes: image.opened.virtualBytes,
    },
  }
}

/** Images and drives of the shown bench that a disk can be compared with. */
export async function comparableWith(disk: LookedAt) {
  const images = (await listImages()).flatMap(({ name, opened }) =>
    opened ? [{ kind: 'images' as const, id: name, name }] : [],
  )
  const drives = (await benchState()).drives
    .filter(hasBytes)
    .slice(0, MOST_COMPARABLE)
    .map((d) => ({ kind: 'drives' as const, id: d.id, name: `${driveName(d)}, ${d.serial}` }))
  return [...images, ...drives].filter((other) => other.kind !== disk.kind || other.id !== disk.id)
}
