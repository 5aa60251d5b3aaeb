import { pack } from 'tar-stream'
import { CoreError } from '@/core/errors'
import { MIB } from '@/core/bytes/size'
import { counted } from '@/core/words'
import { runTask, TaskStopped } from '../jobs/threads'
import type { Subject } from '../jobs/threads/tasks/subject'
import { type LookedAt, subjectOf } from '../world/looked-at'

const PIECE_BYTES = 8 * MIB

/** What did not come along, beside what did. */
const LEFT_OUT = 'NOT READ.txt'

/**
 * A folder of a volume with all that is below it, as the stream of a tar (POSIX.1-2001, pax). What cannot be read is
 * named in a text file at its end; zeros stand for what was missing of a file by then. Rejects with CoreError or
 * Refusal before the first byte.
 */
export async function folderArchive(
  lookedAt: LookedAt,
  partition: number,
  path: string,
): Promise<{ name: string; stream: ReadableStream<Uint8Array> }> {
  const subject = await subjectOf(lookedAt)
  const abort = new AbortController()
  const tree = await runTask('listTree', { subject, partition, path }, { long: true, signal: abort.signal })
  const name = path.split('/').filter(Boolean).at(-1) ?? 'volume'
  const archive = pack()
  const left = tree.unread.map(({ path: folder, why }) => `${folder}\n    ${why}`)

  const write = async () => {
    for (const entry of tree.entries) {
      const inside = `${safe(name)}/${safe(entry.path.slice(path === '/' ? 1 : path.length + 1))}`
      if (entry.kind === 'directory') await added(archive, { name: `${inside}/`, type: 'directory' })
      else if (entry.kind !== 'file')
        left.push(`${entry.path}\n    It is a ${entry.kind === 'link' ? 'link' : 'device'}.`)
      else await addFile({ subject, partition, path: entry.path }, inside, entry.sizeBytes)
    }
    if (left.length > 0) await added(archive, { name: `${safe(name)}/${LEFT_OUT}` }, `${left.join('\n')}\n`)
    archive.finalize()
  }

  const addFile = async (file: { subject: Subject; partition: number; path: string }, inside: string, size: number) => {
    const part = (offset: number) => {
      const length = Math.min(PIECE_BYTES, size - offset)
      return runTask('readAround', { ...file, offset, length }, { signal: abort.signal })
    }
    let lost = 0
    let broken: string | undefined
    let first: Uint8Array | undefined
    try {
      if (size > 0) ({ bytes: first, lostSectors: lost } = await part(0))
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
      left.push(`${file.path}\n    It is left out: ${error.message}`)
      return
    }
    const sink = archive.entry({ name: inside, size })
    for (let at = 0; at < size;) {
      let bytes = at === 0 ? first : undefined
      if (!bytes && broken === undefined) {
        try {
          const read = await part(at)
          bytes = read.bytes
          lost += read.lostSectors
        } catch (error) {
          if (!(error instanceof CoreError)) throw error
          broken = `${error.message}`
        }
      }
      // A file that ends before its size is damaged, too.
      if (bytes?.length === 0) broken ??= 'It ends there.'
      if (!bytes || bytes.length === 0) {
        if (broken !== undefined && !left.some((line) => line.startsWith(`${file.path}\n`)))
          left.push(`${file.path}\n    Zeros stand for it from byte ${at} on: ${broken}`)
        bytes = new Uint8Array(Math.min(PIECE_BYTES, size - at))
      }
      at += bytes.length
      if (!sink.write(bytes)) await drained(sink, abort.signal)
    }
    sink.end(undefined)
    if (lost > 0)
      left.push(`${file.path}\n    ${counted(lost, 'sector')} of it did not read; zeros stand in their place.`)
  }

  const chunks = archive[Symbol.asyncIterator]() as AsyncIterator<Uint8Array>
  const stream = new ReadableStream<Uint8Array>({
    start() {
      write().catch((error: unknown) => {
        // Who hung up has ended it already.
        if (!(abort.signal.aborted || error instanceof TaskStopped)) archive.destroy(error as Error)
      })
    },
    async pull(controller) {
      const { value, done } = await chunks.next()
      if (done) controller.close()
      else controller.enqueue(value)
    },
    cancel() {
      abort.abort()
      archive.destroy()
    },
  })
  return { name: `${name}.tar`, stream }
}

/** Waits until it takes more. Rejects when nobody wants it any more. */
async function drained(sink: ReturnType<ReturnType<typeof pack>['entry']>, signal: AbortSignal): Promise<void> {
  await new Promise<void>((resolve) => {
    sink.once('drain', () => resolve())
    signal.addEventListener('abort', () => resolve(), { once: true })
  })
  signal.throwIfAborted()
}

function added(
  archive: ReturnType<typeof pack>,
  header: { name: string; type?: 'directory' },
  text = '',
): Promise<void> {
  return new Promise((resolve, reject) => {
    archive.entry(header, text, (error) => (error ? reject(error) : resolve()))
  })
}

/** A path that leads nowhere else when it is unpacked, whatever the disk calls it. */
function safe(path: string): string {
  return path
    .split('/')
    .map((part) => (part === '' || part === '.' || part === '..' ? '_' : part.replace(/[\\\0-\x1f\x7f]/g, '_')))
    .join('/')
}
