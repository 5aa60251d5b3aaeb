import { type DriveBytes, openDrive } from '@/bench/open-drive'
import type { BlockDevice } from '@/core/block/device'
import { readOnly } from '@/core/block/readonly'
import { CoreError } from '@/core/errors'
import type { Finding } from '@/core/findings'
import { openHostImage } from '@/host/images'

/** A drive of the bench, or an image file that lies in the folder `within`. */
export type Subject =
  | { readonly kind: 'drive'; readonly drive: DriveBytes }
  | { readonly kind: 'image'; readonly file: string; readonly within: string }

/** Opens it for reading, hands it to `work` with what its image format tells, and closes it. Rejects with CoreError. */
export async function withSubject<T>(
  subject: Subject,
  work: (device: BlockDevice, findings: readonly Finding[]) => Promise<T>,
): Promise<T> {
  if (subject.kind === 'drive') {
    const { device, close } = await openDrive(subject.drive, { writable: false })
    try {
      return await work(readOnly(device), [])
    } finally {
      await close()
    }
  }
  const image = await openHostImage(subject.file, { within: subject.within })
  try {
    const result = await work(image.device, image.findings)
    if (await image.changed()) throw new CoreError('The image was changed while it was read. Read it again.')
    return result
  } finally {
    await image.close()
  }
}
