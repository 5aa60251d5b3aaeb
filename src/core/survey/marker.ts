import { type BlockDevice, readBytes, unreadableAsNothing } from '../block/device'
import { asciiToString } from '../bytes/struct'

const MARK = 'IMBARCO UNFINISHED COPY'
const JOB = 'job '
/** Of what stands in front of a table in the first sector. */
const MARK_BYTES = 440

/** What an unfinished copy says of itself on its target. */
export interface Mark {
  /** Which move wrote it. */
  readonly note: string
  /** The copy that wrote it, which alone may go on with it; absent where none can. */
  readonly job?: string
}

/**
 * The first sector of a drive whose copy has not ended. It carries no table signature, so no firmware
 * starts from it.
 */
export function unfinishedMarker(sectorSize: number, { note, job }: Mark): Uint8Array {
  const bytes = new Uint8Array(sectorSize)
  const lines = [MARK, printable(note).slice(0, 300), ...(job ? [JOB + printable(job).slice(0, 90)] : [])]
  const text = lines.join('\r\n')
  for (let i = 0; i < text.length; i++) bytes[i] = text.charCodeAt(i)
  return bytes
}

/** The mark of an unfinished copy, or undefined when the drive carries none. */
export async function readMarker(device: BlockDevice): Promise<Mark | undefined> {
  // A first sector that does not read carries no mark: it was never written by a copy.
  const bytes = await readBytes(device, 0, MARK_BYTES).catch(unreadableAsNothing)
  return bytes && markIn(bytes)
}

/** The mark at the beginning of these bytes. */
export function markIn(bytes: Uint8Array): Mark | undefined {
  const text = asciiToString(bytes.subarray(0, MARK_BYTES))
  if (!text.startsWith(MARK)) return undefined
  const [, note = '', job] = text.replaceAll('\0', '').split('\r\n')
  return { note, ...(job?.startsWith(JOB) ? { job: job.slice(JOB.length) } : {}) }
}

const printable = (text: string) => text.replace(/[^\x20-\x7e]/g, '?')
