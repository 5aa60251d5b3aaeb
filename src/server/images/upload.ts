import { randomBytes } from 'node:crypto'
import { mkdirSync } from 'node:fs'
import { copyFile, rm } from 'node:fs/promises'
import path from 'node:path'
import { FileStore } from '@tus/file-store'
import { Server } from '@tus/server'
import { formatSize } from '@/core/bytes/size'
import { publish } from '@/host/files'
import { publish as tell } from '../ground/events'
import { uploadsFolder } from '../ground/paths'
import { singleton } from '../ground/singleton'
import { freeName, readyFolder } from './names'
import { roomIn } from './room'

export const UPLOAD_PATH = '/api/images/upload'

/** What an upload is refused with; the protocol's package sends it as it is. */
const refusal = (status_code: number, sentence: string) => ({ status_code, body: `${sentence}\n` })

/**
 * Takes uploads that go on after a cut (the tus protocol, version 1.0). A whole one moves into the images folder
 * under its own name, or one like it when that is taken.
 */
export function uploads(): Server {
  return singleton('uploads', () => {
    const directory = uploadsFolder()
    mkdirSync(directory, { recursive: true })
    return new Server({
      path: UPLOAD_PATH,
      datastore: new FileStore({ directory }),
      relativeLocation: true,
      async onUploadCreate(_request, upload) {
        const size = upload.size ?? 0
        if (!upload.size) throw refusal(400, 'The upload does not say how long it is, or is empty. Nothing was stored.')
        const free = await roomIn(directory)
        if (size > free) {
          throw refusal(
            507,
            `The file has ${formatSize(size)}, and there is room for ${formatSize(free)}. Nothing was stored.`,
          )
        }
        return {}
      },
      async onUploadFinish(_request, upload) {
        const stored = path.join(directory, upload.id)
        await publishUpload(stored, upload.metadata?.filename ?? 'image.img')
        await rm(`${stored}.json`, { force: true })
        tell({ type: 'changed', moveId: null })
        return {}
      },
    })
  })
}

/** Moves a whole upload into the images folder under the name wished for, or the next like it that is free. */
async function publishUpload(stored: string, wished: string): Promise<void> {
  const folder = await readyFolder()
  for (;;) {
    const goal = path.join(folder, await freeName(wished))
    try {
      return await publish(stored, goal)
    } catch (error) {
      const { code } = error as NodeJS.ErrnoException
      // Another took the name in the meantime.
      if (code === 'EEXIST') continue
      if (code !== 'EXDEV') throw error
    }
    // The images folder is on another disk: copied beside its goal first, so that it appears whole.
    const partial = path.join(folder, `.${path.basename(goal)}.${randomBytes(4).toString('hex')}.partial`)
    await copyFile(stored, partial)
    await publish(partial, goal)
    return rm(stored, { force: true })
  }
}
