import { utf16ToString } from '../../bytes/struct'
import {
  ATTRIBUTE_DIRECTORY,
  BITMAP_ENTRY,
  ENTRY_BITMAP,
  ENTRY_END,
  ENTRY_FILE,
  ENTRY_LABEL,
  ENTRY_NAME,
  ENTRY_STREAM,
  FILE_ENTRY,
  STREAM_CONTIGUOUS,
  STREAM_ENTRY,
} from './layout'

/** Where the bytes of something lie: a chain, or clusters that follow each other. */
export interface ExfatStream {
  readonly firstCluster: number
  readonly sizeBytes: number
  /** Bytes behind this are zeros whatever the clusters hold. */
  readonly validBytes: number
  readonly contiguous: boolean
}

export interface ExfatEntry extends ExfatStream {
  readonly name: string
  readonly isDirectory: boolean
}

/** What a directory's bytes hold. Sets that are not whole are left out. */
export function parseExfatDirectory(bytes: Uint8Array): {
  entries: ExfatEntry[]
  label?: string
  bitmap?: ExfatStream
} {
  const entries: ExfatEntry[] = []
  let label: string | undefined
  let bitmap: ExfatStream | undefined
  for (let at = 0; at + 32 <= bytes.length && bytes[at] !== ENTRY_END; at += 32) {
    if (bytes[at] === ENTRY_LABEL) label = utf16ToString(bytes, at + 2, Math.min(11, bytes[at + 1]))
    if (bytes[at] === ENTRY_BITMAP && !bitmap) {
      const { firstCluster, length } = BITMAP_ENTRY.read(bytes, at)
      bitmap = { firstCluster, sizeBytes: length, validBytes: length, contiguous: false }
    }
    if (bytes[at] !== ENTRY_FILE) continue
    const { secondaryCount, attributes } = FILE_ENTRY.read(bytes, at)
    const streamAt = at + 32
    const end = streamAt + secondaryCount * 32
    if (end > bytes.length || bytes[streamAt] !== ENTRY_STREAM) continue
    const stream = STREAM_ENTRY.read(bytes, streamAt)
    let name = ''
    for (let part = streamAt + 32; part < end && bytes[part] === ENTRY_NAME; part += 32) {
      name += utf16ToString(bytes, part + 2, 15)
    }
    entries.push({
      name: name.slice(0, stream.nameLength),
      isDirectory: (attributes & ATTRIBUTE_DIRECTORY) !== 0,
      firstCluster: stream.firstCluster,
      sizeBytes: stream.length,
      validBytes: Math.min(stream.length, stream.validLength),
      contiguous: (stream.flags & STREAM_CONTIGUOUS) !== 0,
    })
    at = end - 32
  }
  return { entries, label, bitmap }
}
