import { crc32c } from '../bytes/crc32'
import { viewOf } from '../bytes/struct'
import { BadStructure } from '../errors'
import { type ImageFile, readFrom } from './port'
import { LOG_DATA, LOG_DESCRIPTOR, LOG_ENTRY, LOG_SECTOR } from './vhdx-layout'

interface Entry {
  readonly at: number
  readonly length: number
  readonly tail: number
  readonly sequence: bigint
  readonly bytes: Uint8Array
  readonly lastFileOffset: number
}

/** Changes of a log entry are at most this many sectors; a log that claims more is taken for damage. */
const MAX_PAGES = 65536

/**
 * The file as it is after the log of an image that was not closed was played back (MS-VHDX, section 2.3.3). The
 * file itself is not written. Throws BadStructure when the log holds no whole sequence.
 */
export async function replayLog(
  file: ImageFile,
  header: { readonly logGuid: string; readonly logOffset: number; readonly logLength: number },
): Promise<{ file: ImageFile; entries: number }> {
  const log = await readFrom(file, header.logOffset, header.logLength, 'VHDX log')
  const sequence = activeSequence(log, header.logGuid)
  if (sequence.length === 0) throw new BadStructure('VHDX log', header.logOffset, 'it holds no sequence that is whole')
  const pages = new Map<number, Uint8Array | null>()
  let size = file.size
  for (const entry of sequence) {
    apply(entry, pages, header.logOffset)
    size = Math.max(size, entry.lastFileOffset)
  }
  for (const offset of pages.keys()) size = Math.max(size, offset + LOG_SECTOR)
  return { file: overlay(file, pages, size), entries: sequence.length }
}

/** The newest run of entries whose numbers follow each other and whose head still has its tail in the log. */
function activeSequence(log: Uint8Array, logGuid: string): Entry[] {
  const entries = new Map<number, Entry>()
  for (let at = 0; at < log.length; at += LOG_SECTOR) {
    const entry = readEntry(log, at, logGuid)
    if (entry) entries.set(at, entry)
  }
  let best: Entry[] = []
  for (const start of entries.values()) {
    const run = [start]
    for (let last = start; ;) {
      const next = entries.get((last.at + last.length) % log.length)
      if (!next || next.sequence !== last.sequence + 1n || run.length > entries.size) break
      run.push((last = next))
    }
    const head = run.at(-1)!
    const from = run.findIndex((entry) => entry.at === head.tail)
    if (from < 0) continue
    if (best.length === 0 || head.sequence > best.at(-1)!.sequence) best = run.slice(from)
  }
  return best
}

function readEntry(log: Uint8Array, at: number, logGuid: string): Entry | undefined {
  let values: ReturnType<typeof LOG_ENTRY.read>
  try {
    values = LOG_ENTRY.read(log, at)
  } catch {
    return undefined
  }
  const { signature, length, tail, sequence, checksum, count, lastFileOffset } = values
  if (signature !== 'loge' || values.logGuid !== logGuid) return undefined
  if (length < LOG_SECTOR || length % LOG_SECTOR !== 0 || length > log.length || tail >= log.length) return undefined
  if (64 + count * 32 > length || sequence === 0n) return undefined
  // The log is a ring: an entry may go on at its beginning.
  const bytes = new Uint8Array(length)
  const first = Math.min(length, log.length - at)
  bytes.set(log.subarray(at, at + first))
  bytes.set(log.subarray(0, length - first), first)
  const unsigned = bytes.slice()
  LOG_ENTRY.write(unsigned, { checksum: 0 })
  return crc32c(unsigned) === checksum ? { at, length, tail, sequence, bytes, lastFileOffset } : undefined
}

function apply({ bytes, sequence }: Entry, pages: Map<number, Uint8Array | null>, logOffset: number): void {
  const { count } = LOG_ENTRY.read(bytes)
  const bad = (why: string) => new BadStructure('VHDX log', logOffset, why)
  let dataAt = Math.ceil((64 + count * 32) / LOG_SECTOR) * LOG_SECTOR
  for (let i = 0; i < count; i++) {
    const descriptor = LOG_DESCRIPTOR.read(bytes, 64 + i * 32)
    if (descriptor.sequence !== sequence || descriptor.offset % LOG_SECTOR !== 0)
      throw bad('a descriptor does not belong')
    if (descriptor.signature === 'zero') {
      const length = Number(viewOf(descriptor.leading).getBigUint64(0, true))
      if (length % LOG_SECTOR !== 0 || length / LOG_SECTOR > MAX_PAGES) throw bad(`it clears ${length} bytes`)
      for (let offset = 0; offset < length; offset += LOG_SECTOR) pages.set(descriptor.offset + offset, null)
    } else if (descriptor.signature === 'desc') {
      if (dataAt + LOG_SECTOR > bytes.length) throw bad('its data is cut off')
      const data = LOG_DATA.read(bytes, dataAt)
      const whole = (BigInt(data.sequenceHigh) << 32n) | BigInt(data.sequenceLow)
      if (data.signature !== 'data' || whole !== sequence) throw bad('its data is of another entry')
      const page = new Uint8Array(LOG_SECTOR)
      page.set(descriptor.leading)
      page.set(data.data, 8)
      page.set(descriptor.trailing, 4092)
      pages.set(descriptor.offset, page)
      dataAt += LOG_SECTOR
    } else throw bad('a descriptor is of an unknown kind')
    if (pages.size > MAX_PAGES) throw bad('it changes more than a log can hold')
  }
}

/** A file with some of its pages changed; null stands for zeros. */
function overlay(file: ImageFile, pages: Map<number, Uint8Array | null>, size: number): ImageFile {
  return {
    size,
    async read(offset, into) {
      const inFile = Math.max(0, Math.min(into.length, file.size - offset))
      if (inFile > 0) await file.read(offset, into.subarray(0, inFile))
      into.fill(0, inFile)
      for (let page = Math.floor(offset / LOG_SECTOR) * LOG_SECTOR; page < offset + into.length; page += LOG_SECTOR) {
        const change = pages.get(page)
        if (change === undefined) continue
        const from = Math.max(offset, page)
        const to = Math.min(offset + into.length, page + LOG_SECTOR)
        if (change) into.set(change.subarray(from - page, to - page), from - offset)
        else into.fill(0, from - offset, to - offset)
      }
    },
  }
}
