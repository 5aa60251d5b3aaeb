import { randomBytes } from 'node:crypto'
import { constants, writeSync } from 'node:fs'
import { type FileHandle, link, open, rename, stat, unlink } from 'node:fs/promises'
import path from 'node:path'
import { UnreadableSectors } from '@/core/block/device'
import { BadStructure } from '@/core/errors'
import type { ImageFile, ImageSink } from '@/core/image'
import { BackgroundStore } from './background-store'
import { hostError, NoFile } from './errors'
import { dataExtents } from './holes'
import { syncFolderOf } from './sync-folder'
import { resolveTarget } from './target-name'

/** Reads of fewer bytes are quicker than the question whether there is anything. */
const WORTH_ASKING = 256 * 1024

/** An image file of this host, opened for reading. */
export class HostFile implements ImageFile {
  private constructor(
    private readonly handle: FileHandle,
    readonly path: string,
    readonly size: number,
    private readonly modified: number,
    /** Bytes that the file takes on the host, which is less than its size where it has holes. */
    readonly hostBytes: number,
    readonly mapped: ImageFile['mapped'],
  ) {}

  /** Rejects with NoFile. */
  static async open(file: string): Promise<HostFile> {
    const name = path.basename(file)
    try {
      // Opening a pipe would wait for someone to write into it.
      const handle = await open(file, constants.O_RDONLY | constants.O_NONBLOCK)
      const { size, mtimeMs, blocks } = await handle.stat().then((found) => {
        if (!found.isFile()) throw new NoFile(`${name} is not a file.`)
        return found
      })
      // A file without holes need not be asked again and again.
      const full = blocks * 512 >= size
      const tells = !full && (await dataExtents(handle.fd, 0, 1)) !== undefined
      const mapped = async (offset: number, length: number) =>
        (await dataExtents(handle.fd, offset, length)) ?? [{ offset, length }]
      return new HostFile(handle, file, size, mtimeMs, blocks * 512, tells ? mapped : undefined)
    } catch (error) {
      throw hostError(error, name)
    }
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    // A hole is known without being read, which costs the host memory and time.
    if (this.mapped && into.length >= WORTH_ASKING && (await this.mapped(offset, into.length)).length === 0) {
      into.fill(0)
      return
    }
    let done = 0
    while (done < into.length) {
      const { bytesRead } = await this.handle
        .read(into, done, into.length - done, offset + done)
        .catch((error: unknown) => {
          throw mediumError(error, offset, into.length)
        })
      if (bytesRead === 0) {
        throw new BadStructure(
          'image',
          offset + done,
          `the file ends there, where ${into.length - done} bytes more should be`,
        )
      }
      done += bytesRead
    }
  }

  /** True when the file was changed since it was opened. */
  async changed(): Promise<boolean> {
    const now = await this.handle.stat()
    return now.size !== this.size || now.mtimeMs !== this.modified
  }

  close(): Promise<void> {
    return this.handle.close()
  }
}

/**
 * Makes a file that appears under its name only when it is whole: `work` fills one of a temporary name beside it,
 * which is then stored and renamed; when `work` fails nothing is left. Rejects with NoFile when the name is taken,
 * and then before anything is written; as `work` does; or with HostFull. With `overwrite` the name may be taken, and
 * what has it is there until the new file is whole.
 */
export async function createWhole<T>(
  file: string,
  work: (sink: ImageSink) => Promise<T>,
  { overwrite = false }: { overwrite?: boolean } = {},
): Promise<T> {
  const target = await resolveTarget(file)
  const name = path.basename(file)
  if (!overwrite && (await exists(target))) throw new NoFile(`A file of that name is there already: ${name}.`)
  const partial = path.join(path.dirname(target), `.${path.basename(target)}.${randomBytes(4).toString('hex')}.partial`)
  let handle: FileHandle
  try {
    handle = await open(partial, 'wx')
  } catch (error) {
    throw hostError(error, name)
  }
  try {
    const store = new BackgroundStore(handle)
    const result = await work(sinkOf(handle, name, store))
    await store.flush()
    await handle.sync()
    await handle.close()
    await (overwrite ? rename(partial, target) : publish(partial, target))
    await syncFolderOf(target)
    return result
  } catch (error) {
    await handle.close().catch(() => undefined)
    await unlink(partial).catch(() => undefined)
    throw hostError(error, name)
  }
}

/** Gives a whole file its name on the same disk. Rejects with EEXIST when another has that; then nothing is changed. */
export async function publish(partial: string, file: string): Promise<void> {
  try {
    await link(partial, file)
    await unlink(partial)
  } catch (error) {
    const code = (error as NodeJS.ErrnoException).code
    // Not every file system of a host has links.
    if (code !== 'EPERM' && code !== 'ENOTSUP' && code !== 'ENOSYS') throw error
    if (await exists(file)) throw Object.assign(new Error('taken'), { code: 'EEXIST' })
    await rename(partial, file)
  }
}

/** What a drive does not give is told by its sectors; the file of a drive is one itself. */
function mediumError(error: unknown, offset: number, length: number): unknown {
  if ((error as NodeJS.ErrnoException | undefined)?.code !== 'EIO') return error
  const first = Math.floor(offset / 512)
  return new UnreadableSectors(Array.from({ length: Math.ceil(length / 512) }, (_, i) => first + i))
}

async function exists(file: string): Promise<boolean> {
  return stat(file).then(
    () => true,
    () => false,
  )
}

/** Larger writes make the host look for large stretches of memory, which costs more than the calls that are saved. */
const WRITE_BYTES = 128 * 1024

/**
 * Writes in place of the thread that calls: images are written in threads of their own, where the next piece is
 * read meanwhile.
 */
function sinkOf(handle: FileHandle, name: string, store: BackgroundStore): ImageSink {
  return {
    async write(offset, from) {
      try {
        for (let done = 0; done < from.length;) {
          const length = Math.min(WRITE_BYTES, from.length - done)
          done += writeSync(handle.fd, from, done, length, offset + done)
        }
      } catch (error) {
        throw hostError(error, name)
      }
      store.wrote(from.length)
    },
    async truncate(length) {
      await store.idle()
      try {
        await handle.truncate(length)
      } catch (error) {
        throw hostError(error, name)
      }
    },
  }
}
