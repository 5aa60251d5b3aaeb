import { constants } from 'node:fs'
import { type FileHandle, link, open, rename, stat, unlink } from 'node:fs/promises'
import path from 'node:path'
import { UnreadableSectors } from '@/core/block/device'
import { BadStructure } from '@/core/errors'
import type { ImageFile } from '@/core/image'
import { hostError, NoFile } from './errors'
import { readFileBytes } from './file-bytes'
import { dataExtents } from './holes'

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
    let handle: FileHandle | undefined
    try {
      // Opening a pipe would wait for someone to write into it.
      const opened = (handle = await open(file, constants.O_RDONLY | constants.O_NONBLOCK))
      const { size, mtimeMs, blocks } = await opened.stat().then((found) => {
        if (!found.isFile()) throw new NoFile(`${name} is not a file.`)
        return found
      })
      // A file without holes need not be asked again and again.
      const full = blocks * 512 >= size
      const tells = !full && (await dataExtents(opened.fd, 0, 1)) !== undefined
      const mapped = async (offset: number, length: number) =>
        (await dataExtents(opened.fd, offset, length)) ?? [{ offset, length }]
      return new HostFile(opened, file, size, mtimeMs, blocks * 512, tells ? mapped : undefined)
    } catch (error) {
      await handle?.close()
      throw hostError(error, name)
    }
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    // A hole is known without being read, which costs the host memory and time.
    if (this.mapped && into.length >= WORTH_ASKING && (await this.mapped(offset, into.length)).length === 0) {
      into.fill(0)
      return
    }
    const done = await readFileBytes(this.handle, offset, into).catch((error: unknown) => {
      throw mediumError(error, offset, into.length)
    })
    if (done < into.length)
      throw new BadStructure(
        'image',
        offset + done,
        `the file ends there, where ${into.length - done} bytes more should be`,
      )
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

/** Gives a whole file its name on the same disk. Rejects with EEXIST when another has that; then nothing is changed. */
export async function publish(partial: string, file: string): Promise<void> {
  try {
    await link(partial, file)
    await unlink(partial)
  } catch (error) {
    const code = (error as NodeJS.ErrnoException).code
    // Not every file system of a host has links.
    if (code !== 'EPERM' && code !== 'ENOTSUP' && code !== 'ENOSYS') throw error
    if (await isThere(file)) throw Object.assign(new Error('taken'), { code: 'EEXIST' })
    await rename(partial, file)
  }
}

/** What a drive does not give is told by its sectors; the file of a drive is one itself. */
function mediumError(error: unknown, offset: number, length: number): unknown {
  if ((error as NodeJS.ErrnoException | undefined)?.code !== 'EIO') return error
  const first = Math.floor(offset / 512)
  return new UnreadableSectors(Array.from({ length: Math.ceil(length / 512) }, (_, i) => first + i))
}

/** True when something has this name. */
export async function isThere(file: string): Promise<boolean> {
  return stat(file).then(
    () => true,
    () => false,
  )
}
