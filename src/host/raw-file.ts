import { type FileHandle, open, unlink } from 'node:fs/promises'
import path from 'node:path'
import { type BlockDevice, checkRange, type Extent } from '@/core/block/device'
import { CoreError } from '@/core/errors'
import { BackgroundStore } from './background-store'
import { hostError, NoFile } from './errors'
import { dataExtents } from './holes'
import { syncFolderOf } from './sync-folder'

/** A raw image of this host that is written, sparse where nothing was. */
export class RawFile implements BlockDevice {
  readonly physicalSectorSize = 4096
  private readonly store: BackgroundStore

  private constructor(
    private readonly handle: FileHandle,
    private readonly name: string,
    readonly size: number,
    readonly logicalSectorSize: 512 | 4096,
  ) {
    this.store = new BackgroundStore(handle)
  }

  /** Makes a new file that reads as zeros. Rejects with NoFile when the name is taken. */
  static async create(file: string, size: number, sectorSize: 512 | 4096): Promise<RawFile> {
    const name = path.basename(file)
    try {
      const handle = await open(file, 'wx+')
      try {
        await handle.truncate(size)
        await syncFolderOf(file)
      } catch (error) {
        // What cannot be made leaves nothing behind. Some hosts call a length beyond their own an invalid one.
        await handle.close()
        await unlink(file)
        const { code } = error as NodeJS.ErrnoException
        throw code === 'EINVAL' ? Object.assign(new Error('too long'), { code: 'EFBIG' }) : error
      }
      return new RawFile(handle, name, size, sectorSize)
    } catch (error) {
      throw hostError(error, name)
    }
  }

  /** Opens one that is there, to go on writing it. Rejects with NoFile. */
  static async open(file: string, sectorSize: 512 | 4096): Promise<RawFile> {
    const name = path.basename(file)
    try {
      const handle = await open(file, 'r+')
      const found = await handle.stat()
      if (!found.isFile()) {
        await handle.close()
        throw new NoFile(`${name} is not a file.`)
      }
      const { size } = found
      return new RawFile(handle, name, size, sectorSize)
    } catch (error) {
      throw hostError(error, name)
    }
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    for (let done = 0; done < into.length;) {
      const { bytesRead } = await this.handle.read(into, done, into.length - done, offset + done)
      if (bytesRead === 0) throw new CoreError(`${this.name} is shorter than it was.`)
      done += bytesRead
    }
  }

  async write(offset: number, from: Uint8Array): Promise<void> {
    checkRange(this, offset, from.length)
    try {
      for (let done = 0; done < from.length;) {
        const { bytesWritten } = await this.handle.write(from, done, from.length - done, offset + done)
        done += bytesWritten
      }
    } catch (error) {
      throw hostError(error, this.name)
    }
    this.store.wrote(from.length)
  }

  async flush(): Promise<void> {
    try {
      await this.store.flush()
    } catch (error) {
      throw hostError(error, this.name)
    }
  }

  /** Whatever lies in whole blocks behind `offset`, by cutting the file there and making it long again. */
  async discard(offset: number, length: number): Promise<void> {
    checkRange(this, offset, length)
    if (offset + length !== this.size) throw new CoreError('Only the end of a file can be forgotten.')
    await this.handle.truncate(offset)
    await this.handle.truncate(this.size)
  }

  async mapped(offset: number, length: number): Promise<readonly Extent[]> {
    return (await dataExtents(this.handle.fd, offset, length)) ?? [{ offset, length }]
  }

  async close(): Promise<void> {
    await this.store.idle()
    await this.handle.close()
  }
}
