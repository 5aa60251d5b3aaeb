import { statSync } from 'node:fs'
import { type DriveBytes, openToLook } from '@/outside/open-drive'
import type { BlockDevice } from '@/core/block/device'
import { CoreError } from '@/core/errors'
import type { Finding } from '@/core/findings'
import { openHostImage } from '@/host/images'

/** A drive of the bench, or an image file that lies in the folder `within`. */
export type Subject =
  | { readonly kind: 'drive'; readonly drive: DriveBytes }
  | { readonly kind: 'image'; readonly file: string; readonly within: string }

export interface SubjectOpened {
  /** What its image format tells. */
  readonly findings: readonly Finding[]
  /** Another text whenever its bytes may be others: all files that they lie in, as they are now. */
  readonly stamp: string
}

function stampOf(files: readonly string[]): string {
  return files
    .map((file) => {
      const { dev, ino, mtimeNs, size } = statSync(file, { bigint: true })
      return [dev, ino, mtimeNs, size].join(' ')
    })
    .join()
}

/** Opens it for reading, hands it to `work` with what is known of it, and closes it. Rejects with CoreError. */
export async function withSubject<T>(
  subject: Subject,
  work: (device: BlockDevice, about: SubjectOpened) => Promise<T>,
): Promise<T> {
  if (subject.kind === 'drive') {
    const { device, files, close } = await openToLook(subject.drive)
    try {
      const { file, stamp } = subject.drive
      return await work(device, { findings: [], stamp: stamp === undefined ? stampOf(files) : `${file} ${stamp}` })
    } finally {
      await close()
    }
  }
  const image = await openHostImage(subject.file, { within: subject.within })
  try {
    const result = await work(image.device, { findings: image.findings, stamp: stampOf(image.paths) })
    if (await image.changed()) throw new CoreError('The image was changed while it was read. Read it again.')
    return result
  } finally {
    await image.close()
  }
}
