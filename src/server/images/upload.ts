import { mkdirSync } from 'node:fs'
import { copyFile, rename, rm, statfs } from 'node:fs/promises'
import path from 'node:path'
import { FileStore } from '@tus/file-store'
import { Server } from '@tus/server'
import { formatSize, MIB } from '@/core/bytes/size'
import { publish } from '../events'
import { uploadsFolder } from '../paths'
import { singleton } from '../singleton'
import { freeName, readyFolder } from './names'

/** Room that is left free on the host whatever is uploaded. */
const MARGIN_BYTES = 256 * MIB
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
        const { bavail, bsize } = await statfs(directory)
        const free = bavail * bsize - MARGIN_BYTES
        if (size > free) {
          throw refusal(
            507,
            `The file has ${formatSize(size)}, and there is room for ${formatSize(Math.max(0, free))}. Nothing was stored.`,
          )
        }
        return {}
      },
      async onUploadFinish(_request, upload) {
        const name = await freeName(upload.metadata?.filename ?? 'image.img')
        const goal = path.join(await readyFolder(), name)
        const stored = path.join(directory, upload.id)
        await moveFile(stored, goal)
        await rm(`${stored}.json`, { force: true })
        publish({ type: 'changed', moveId: null })
        return {}
      },
    })
  })
}

async function moveFile(from: string, to: string): Promise<void> {
  try {
    await rename(from, to)
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code !== 'EXDEV') throw error
    // The images folder is on another disk: copied beside its goal first, so that it appears whole.
    const partial = path.join(path.dirname(to), `.${path.basename(to)}.00000000.partial`)
    await copyFile(from, partial)
    await rename(partial, to)
    await rm(from, { force: true })
  }
}
