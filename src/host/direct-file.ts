import { constants } from 'node:fs'
import { type FileHandle, open } from 'node:fs/promises'
import { alignDown } from '@/core/bytes/size'
import { closeWritten, isWorthAThread, WORTH_A_THREAD, writeFileBytes } from './file-bytes'

/** Where in a file, and in memory, a direct call begins and ends: no disk has longer sectors, no host other pages. */
const ALIGNED = 4096
/** Of one call: all of it, since nothing has to be found for it in the host's memory. */
const CALL_BYTES = 2 ** 30

/**
 * Long stretches of a file that is open for both go straight to its disk and come from it. What a copy writes is read once
 * more at most, and then it is the disk that shall answer; the copy that the host would keep in its memory costs more than
 * reading the source.
 */
export class DirectFile {
  private opened: Promise<FileHandle | undefined> | undefined
  /** The file's host does not take such calls. */
  private readonly refused = { writing: false, reading: false }

  constructor(private readonly file: FileHandle) {}

  /**
   * Gives how many bytes from the front of `from` it wrote at `offset`; 0 where they are few, do not begin at a sector, or
   * the host takes no such writes. Rejects as the host does, with part of it written.
   */
  async write(offset: number, from: Uint8Array): Promise<number> {
    const bytes = from.subarray(0, alignDown(from.length, ALIGNED))
    if (this.refused.writing || !isAligned(offset, from) || !isWorthAThread(bytes)) return 0
    const done = await this.tried('writing', (handle) => writeFileBytes(handle, offset, bytes, CALL_BYTES))
    return done ? bytes.length : 0
  }

  /**
   * Fills `into` from `offset`. False where it is short, does not begin and end at a sector, or the host takes no such
   * reads, and at the end of the file. Rejects as the host does.
   */
  async read(offset: number, into: Uint8Array): Promise<boolean> {
    const fits = isAligned(offset, into) && into.length % ALIGNED === 0 && into.length >= WORTH_A_THREAD
    if (this.refused.reading || !fits) return false
    let read = 0
    const done = await this.tried('reading', async (handle) => {
      read = (await handle.read(into, 0, into.length, offset)).bytesRead
    })
    return done && read === into.length
  }

  /** Does what it is given with the file; false where the host does not take it. */
  private async tried(what: 'writing' | 'reading', work: (handle: FileHandle) => Promise<void>): Promise<boolean> {
    const handle = await (this.opened ??= this.open())
    if (!handle) return false
    try {
      await work(handle)
      return true
    } catch (error) {
      // Some say so only of the first call, some of memory that is not where they want it.
      if ((error as NodeJS.ErrnoException).code !== 'EINVAL') throw error
      this.refused[what] = true
      return false
    }
  }

  async close(): Promise<void> {
    const handle = await this.opened
    if (handle) await closeWritten(handle)
  }

  /** The same open file, whatever its name stands for by now; undefined where there is no such way to it. */
  private async open(): Promise<FileHandle | undefined> {
    // Only Linux knows both the flag and the way to a file by its descriptor.
    if (process.platform !== 'linux') return undefined
    return open(`/proc/self/fd/${this.file.fd}`, constants.O_RDWR | constants.O_DIRECT).catch(() => undefined)
  }
}

const isAligned = (offset: number, { byteOffset }: Uint8Array) => offset % ALIGNED === 0 && byteOffset % ALIGNED === 0
