import { constants } from 'node:fs'
import { type FileHandle, open, unlink } from 'node:fs/promises'
import path from 'node:path'
import type { Extent } from '@/core/block/device'
import { CoreError } from '@/core/errors'
import type { ImageStore } from '@/core/image/store'
import { BackgroundStore } from './background-store'
import { DirectFile } from './direct-file'
import { hostError, NoFile } from './errors'
import { closeWritten, readFileBytes, writeFileBytes } from './file-bytes'
import { dataExtents } from './holes'
import { syncFolderOf } from './sync-folder'

/** A file of this host that is written in any place and read back, sparse where nothing was written. */
export class HostStore implements ImageStore {
  private readonly background: BackgroundStore
  private readonly direct: DirectFile
  private readsDirect = false

  private constructor(
    private readonly handle: FileHandle,
    readonly name: string,
    /** Its length now. */
    public size: number,
  ) {
    this.background = new BackgroundStore(handle)
    this.direct = new DirectFile(handle)
  }

  /** Makes a new file of `size` bytes that reads as zeros. Rejects with NoFile when the name is taken. */
  static async create(file: string, size = 0): Promise<HostStore> {
    const name = path.basename(file)
    try {
      const handle = await open(file, 'wx+')
      try {
        const store = new HostStore(handle, name, 0)
        await store.truncate(size)
        await syncFolderOf(file)
        return store
      } catch (error) {
        // What cannot be made leaves nothing behind.
        await handle.close()
        await unlink(file)
        throw error
      }
    } catch (error) {
      throw hostError(error, name)
    }
  }

  /** Opens one that is there, to go on writing it. Rejects with NoFile. */
  static async open(file: string): Promise<HostStore> {
    const name = path.basename(file)
    try {
      // Opening a pipe would wait for someone at its other end.
      const handle = await open(file, constants.O_RDWR | constants.O_NONBLOCK)
      const found = await handle.stat()
      if (!found.isFile()) {
        await handle.close()
        throw new NoFile(`${name} is not a file.`)
      }
      return new HostStore(handle, name, found.size)
    } catch (error) {
      throw hostError(error, name)
    }
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    if (this.readsDirect && (await this.direct.read(offset, into))) return
    const done = await readFileBytes(this.handle, offset, into)
    if (done === into.length) return
    if (offset + done < this.size) throw new CoreError(`${this.name} is shorter than it was.`)
    into.fill(0, done)
  }

  async write(offset: number, from: Uint8Array): Promise<void> {
    try {
      const direct = await this.direct.write(offset, from)
      if (direct < from.length) {
        await writeFileBytes(this.handle, offset + direct, from.subarray(direct))
        this.background.wrote(from.length - direct)
      }
    } catch (error) {
      throw hostError(error, this.name)
    }
    this.size = Math.max(this.size, offset + from.length)
  }

  async truncate(length: number): Promise<void> {
    await this.background.idle()
    try {
      await this.handle.truncate(length)
    } catch (error) {
      // Some hosts call a length beyond their own an invalid one.
      const { code } = error as NodeJS.ErrnoException
      throw hostError(code === 'EINVAL' ? Object.assign(new Error('too long'), { code: 'EFBIG' }) : error, this.name)
    }
    this.size = length
  }

  async flush(): Promise<void> {
    try {
      await this.background.flush()
    } catch (error) {
      throw hostError(error, this.name)
    }
  }

  /** From now on long readings come from the disk, as far as its host lets them. */
  async uncache(): Promise<void> {
    this.readsDirect = true
  }

  async mapped(offset: number, length: number): Promise<readonly Extent[]> {
    return (await dataExtents(this.handle.fd, offset, length)) ?? [{ offset, length }]
  }

  async close(): Promise<void> {
    await this.background.idle()
    await this.direct.close()
    await closeWritten(this.handle)
  }
}
