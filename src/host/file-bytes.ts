import type { FileHandle } from 'node:fs/promises'

/**
 * Bytes of one call. For long ones a host keeps its copy of a file in large stretches, which it first has to find: where
 * they begin at round places that takes longer than the copying, and for writing more than for reading. Much shorter
 * ones cost more in calls.
 */
const READ_BYTES = 512 * 1024
const WRITE_BYTES = 128 * 1024

/** Fills `into` from `offset` of a file; gives how many bytes there were, fewer only at its end. */
export async function readFileBytes(file: FileHandle, offset: number, into: Uint8Array): Promise<number> {
  for (let done = 0; done < into.length;) {
    const { bytesRead } = await file.read(into, done, Math.min(READ_BYTES, into.length - done), offset + done)
    if (bytesRead === 0) return done
    done += bytesRead
  }
  return into.length
}

/** Writes all of `from` at `offset` of a file. Rejects as the host does, with part of it written. */
export async function writeFileBytes(file: Pick<FileHandle, 'write'>, offset: number, from: Uint8Array): Promise<void> {
  for (let done = 0; done < from.length;) {
    const length = Math.min(WRITE_BYTES, from.length - done)
    done += (await file.write(from, done, length, offset + done)).bytesWritten
  }
}
