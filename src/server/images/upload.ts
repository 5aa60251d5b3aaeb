import { randomBytes } from 'node:crypto'
import { mkdirSync } from 'node:fs'
import { copyFile, readdir, readFile, rm, stat } from 'node:fs/promises'
import path from 'node:path'
import { FileStore } from '@tus/file-store'
import { Server } from '@tus/server'
import * as z from 'zod'
import { publish } from '@/host/files'
import { publish as tell } from '../ground/events'
import { log } from '../ground/log'
import { uploadsFolder } from '../ground/paths'
import { Refusal } from '../ground/refusals'
import { singleton } from '../ground/singleton'
import { freeName, readyFolder } from './names'
import { roomIn } from './room'

export const UPLOAD_PATH = '/api/images/upload'
/** The header that tells what a whole upload is called in the images folder, percent-encoded. */
const STORED_NAME = 'x-stored-name'

/** An upload that nobody goes on with is kept for so long. */
const KEPT_MS = 7 * 24 * 60 * 60 * 1000

const InfoSchema = z.object({
  id: z.string(),
  size: z.number(),
  metadata: z.object({ filename: z.string().optional() }).loose().nullish(),
})

/** Uploads that are not whole yet: sent now by some page, or cut and waiting to be resumed. */
export async function unfinishedUploads(): Promise<
  { id: string; name: string; sentBytes: number; totalBytes: number }[]
> {
  const directory = uploadsFolder()
  const names = await readdir(directory).catch(() => [])
  const found = await Promise.all(
    names
      .filter((name) => name.endsWith('.json'))
      .map(async (name) => {
        try {
          const { id, size, metadata } = InfoSchema.parse(
            JSON.parse(await readFile(path.join(directory, name), 'utf8')),
          )
          const { size: sentBytes } = await stat(path.join(directory, path.basename(id)))
          return [{ id, name: metadata?.filename ?? id, sentBytes, totalBytes: size }]
        } catch {
          // One that ended in the meantime, or whose description is damaged.
          return []
        }
      }),
  )
  return found.flat()
}

/** A refusal as the protocol's package sends it. */
const asResponse = ({ status, message }: Refusal) => ({ status_code: status, body: `${message}\n` })

/**
 * Takes uploads that go on after a cut (the tus protocol, version 1.0). A whole one moves into the images folder
 * under its own name, or one like it when that is taken.
 */
export function uploads(): Server {
  return singleton('uploads', () => {
    const directory = uploadsFolder()
    mkdirSync(directory, { recursive: true })
    const store = new FileStore({ directory, expirationPeriodInMilliseconds: KEPT_MS })
    void store.deleteExpired().catch((error: unknown) => log.error(error))
    return new Server({
      path: UPLOAD_PATH,
      datastore: store,
      relativeLocation: true,
      async onUploadCreate(_request, upload) {
        const size = upload.size ?? 0
        if (!upload.size) throw asResponse(new Refusal('upload-empty'))
        await store.deleteExpired()
        // What is still to come of others has its room already.
        const coming = (await unfinishedUploads()).reduce((sum, other) => sum + other.totalBytes - other.sentBytes, 0)
        const free = Math.max(0, (await roomIn(directory)) - coming)
        if (size > free)
          throw asResponse(new Refusal('uploads-no-room', { sizeBytes: size, freeBytes: free, comingBytes: coming }))
        return {}
      },
      async onUploadFinish(_request, upload) {
        const stored = path.join(directory, upload.id)
        const name = await publishUpload(stored, upload.metadata?.filename ?? 'image.img')
        await rm(`${stored}.json`, { force: true })
        tell({ type: 'changed', moveId: null })
        return { headers: { [STORED_NAME]: encodeURIComponent(name) } }
      },
    })
  })
}

/** Moves a whole upload into the images folder under the name wished for, or the next like it that is free. Returns it. */
async function publishUpload(stored: string, wished: string): Promise<string> {
  const folder = await readyFolder()
  for (;;) {
    const name = await freeName(wished)
    const goal = path.join(folder, name)
    try {
      await publish(stored, goal)
      return name
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
    await rm(stored, { force: true })
    return name
  }
}
