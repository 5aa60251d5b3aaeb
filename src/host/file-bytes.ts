import type { FileHandle } from 'node:fs/promises'
import { writeByThread } from './write-threads'

/**
 * Bytes of one call. For long ones a host keeps its copy of a file in large stretches, which it first has to find: where
 * they begin at round places that takes longer than the copying, and for writing more than for reading. Much shorter
 * ones cost more in calls. Each ends at a round place, so that the stretches are as long as they can be.
 */
const READ_BYTES = 512 * 1024
/** Calls of one reading that are underway at once: each waits for the memory that it copies, not for the others. */
const CALLS_AT_ONCE = 4
const WRITE_BYTES = 128 * 1024

/** Fills `into` from `offset` of a file; gives how many bytes there were, fewer only at its end. */
export async function readFileBytes(file: FileHandle, offset: number, into: Uint8Array): Promise<number> {
  for (let at = 0; at < into.length; at += CALLS_AT_ONCE * READ_BYTES) {
    const parts: Uint8Array[] = []
    for (let from = at; from < into.length && parts.length < CALLS_AT_ONCE; from += READ_BYTES)
      parts.push(into.subarray(from, from + READ_BYTES))
    const counts = await allOf(parts.map((part, i) => fill(file, offset + at + i * READ_BYTES, part)))
    const short = counts.findIndex((count, i) => count < parts[i].length)
    if (short >= 0) return at + short * READ_BYTES + counts[short]
  }
  return into.length
}

async function fill(file: FileHandle, offset: number, into: Uint8Array): Promise<number> {
  let done = 0
  while (done < into.length) {
    const { bytesRead } = await file.read(into, done, into.length - done, offset + done)
    if (bytesRead === 0) break
    done += bytesRead
  }
  return done
}

/** As `Promise.all`, but it rejects only once none of them is underway any more: they have memory of the caller. */
async function allOf<T>(works: readonly Promise<T>[]): Promise<T[]> {
  if (works.length === 1) return [await works[0]]
  const ends = await Promise.allSettled(works)
  return ends.map((end) => {
    if (end.status === 'rejected') throw end.reason
    return end.value
  })
}

/** Shorter ones are written before a thread has been told of them. */
const WORTH_A_THREAD = 256 * 1024

/** What threads write to a file just now. */
const underway = new WeakMap<object, Set<Promise<void>>>()

/**
 * Writes all of `from` at `offset` of a file; what lies in memory that threads share by one of them. Rejects as the host
 * does, with part of it written.
 */
export async function writeFileBytes(
  file: Pick<FileHandle, 'write'> & Partial<Pick<FileHandle, 'fd'>>,
  offset: number,
  from: Uint8Array,
): Promise<void> {
  if (file.fd !== undefined && from.length >= WORTH_A_THREAD && isShared(from)) {
    const writing = writeByThread({ descriptor: file.fd, offset, bytes: from, length: WRITE_BYTES })
    const all = underway.get(file) ?? new Set()
    underway.set(file, all.add(writing))
    return writing.finally(() => all.delete(writing))
  }
  for (let done = 0; done < from.length;) {
    const length = Math.min(WRITE_BYTES - ((offset + done) % WRITE_BYTES), from.length - done)
    done += (await file.write(from, done, length, offset + done)).bytesWritten
  }
}

/** Closes a file that was written. Its number may be another file's from then on, so no thread may still have it. */
export async function closeWritten(file: FileHandle): Promise<void> {
  await Promise.allSettled(underway.get(file) ?? [])
  await file.close()
}

const isShared = ({ buffer }: Uint8Array) =>
  typeof SharedArrayBuffer !== 'undefined' && buffer instanceof SharedArrayBuffer
