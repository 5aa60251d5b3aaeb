import { constants } from 'node:fs'
import { type FileHandle, open } from 'node:fs/promises'
import { alignDown } from '@/core/bytes/size'
import { closeWritten, isWorthAThread, writeFileBytes } from './file-bytes'

/** Where in a file, and in memory, a direct write begins and ends: no disk has longer sectors, no host other pages. */
const ALIGNED = 4096
/** Of one call: all of it, since nothing has to be found for it in the host's memory. */
const CALL_BYTES = 2 ** 30

/**
 * Writes long stretches of an open file straight to its disk. What a copy writes is read once more at most, and then it
 * is the disk that shall answer; the copy that the host would keep in its memory costs more than reading the source.
 */
export class DirectWriter {
  private opened: Promise<FileHandle | undefined> | undefined
  /** The file's host does not take such writes. */
  private refused = false

  constructor(private readonly file: FileHandle) {}

  /**
   * Gives how many bytes from the front of `from` it wrote at `offset`; 0 where they are few, do not begin at a sector, or
   * the host takes no such writes. Rejects as the host does, with part of it written.
   */
  async write(offset: number, from: Uint8Array): Promise<number> {
    const bytes = from.subarray(0, alignDown(from.length, ALIGNED))
    if (this.refused || offset % ALIGNED !== 0 || from.byteOffset % ALIGNED !== 0 || !isWorthAThread(bytes)) return 0
    const handle = await (this.opened ??= this.open())
    if (!handle) return 0
    try {
      await writeFileBytes(handle, offset, bytes, CALL_BYTES)
      return bytes.length
    } catch (error) {
      // Some say so only of the first write, some of memory that is not where they want it.
      if ((error as NodeJS.ErrnoException).code !== 'EINVAL') throw error
      this.refused = true
      return 0
    }
  }

  async close(): Promise<void> {
    const handle = await this.opened
    if (handle) await closeWritten(handle)
  }

  /** The same open file, whatever its name stands for by now. */
  private async open(): Promise<FileHandle | undefined> {
    // Only Linux knows both the flag and the way to a file by its descriptor.
    if (process.platform !== 'linux') this.refused = true
    else
      return open(`/proc/self/fd/${this.file.fd}`, constants.O_WRONLY | constants.O_DIRECT).catch(() => {
        this.refused = true
        return undefined
      })
  }
}
