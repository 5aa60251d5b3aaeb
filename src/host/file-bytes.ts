import type { FileHandle } from 'node:fs/promises'
import { writeByThread } from './write-threads'

/**
 * Bytes of one call. A piece of a copy is read by one, so that whoever hashes the last piece meanwhile holds no reading up.
 * Written they are shorter: a host keeps its copy of a file in large stretches, which it first has to find, and where they
 * begin at round places that takes longer than the copying. Much shorter ones cost more in calls. Each ends at a round
 * place, so that the stretches are as long as they can be.
 */
const READ_BYTES = 4 * 1024 * 1024
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

/** Shorter ones are written before a thread has been told of them. */
export const WORTH_A_THREAD = 256 * 1024

/** What threads write to a file just now. */
const underway = new WeakMap<object, Set<Promise<void>>>()

/**
 * Writes all of `from` at `offset` of a file; what lies in memory that threads share by one of them. `callBytes`: of one
 * call, which ends at a multiple of it. Rejects as the host does, with part of it written.
 */
export async function writeFileBytes(
  file: Pick<FileHandle, 'write'> & Partial<Pick<FileHandle, 'fd'>>,
  offset: number,
  from: Uint8Array,
  callBytes = WRITE_BYTES,
): Promise<void> {
  if (file.fd !== undefined && isWorthAThread(from)) {
    const writing = writeByThread({ descriptor: file.fd, offset, bytes: from, length: callBytes })
    const all = underway.get(file) ?? new Set()
    underway.set(file, all.add(writing))
    return writing.finally(() => all.delete(writing))
  }
  for (let done = 0; done < from.length;) {
    const length = Math.min(callBytes - ((offset + done) % callBytes), from.length - done)
    done += (await file.write(from, done, length, offset + done)).bytesWritten
  }
}

/** Closes a file that was written. Its number may be another file's from then on, so no thread may still have it. */
export async function closeWritten(file: FileHandle): Promise<void> {
  await Promise.allSettled(underway.get(file) ?? [])
  await file.close()
}

/** Long bytes in memory that threads share. */
export const isWorthAThread = ({ buffer, length }: Uint8Array) =>
  length >= WORTH_A_THREAD && typeof SharedArrayBuffer !== 'undefined' && buffer instanceof SharedArrayBuffer
