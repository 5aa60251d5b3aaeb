import type { FileHandle } from 'node:fs/promises'

/**
 * Bytes of one call. For several mebibytes at once a host keeps its copy of a file in large stretches, which it first has
 * to find: that can take longer than the copying. Much smaller ones cost more in calls.
 */
const CALL_BYTES = 512 * 1024

/** Fills `into` from `offset` of a file; gives how many bytes there were, fewer only at its end. */
export async function readFileBytes(file: FileHandle, offset: number, into: Uint8Array): Promise<number> {
  for (let done = 0; done < into.length;) {
    const { bytesRead } = await file.read(into, done, Math.min(CALL_BYTES, into.length - done), offset + done)
    if (bytesRead === 0) return done
    done += bytesRead
  }
  return into.length
}

/** Writes all of `from` at `offset` of a file. Rejects as the host does, with part of it written. */
export async function writeFileBytes(file: Pick<FileHandle, 'write'>, offset: number, from: Uint8Array): Promise<void> {
  for (let done = 0; done < from.length;) {
    const length = Math.min(CALL_BYTES, from.length - done)
    done += (await file.write(from, done, length, offset + done)).bytesWritten
  }
}
