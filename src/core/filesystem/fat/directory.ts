import { asciiToString, utf16ToString } from '../../bytes/struct'
import {
  ATTRIBUTE_DIRECTORY,
  ATTRIBUTE_LONG_NAME,
  ATTRIBUTE_VOLUME,
  CASE_LOWER_BASE,
  CASE_LOWER_EXTENSION,
  DIRECTORY_ENTRY,
  LONG_NAME_ENTRY,
  shortNameChecksum,
} from './layout'

/** A directory entry with its long name, where it has one. */
export interface FatEntry {
  readonly name: string
  readonly isDirectory: boolean
  readonly firstCluster: number
  readonly sizeBytes: number
  /** Where its own row stands in the directory's bytes. */
  readonly rowAt: number
}

/** What a directory's bytes hold: entries but for `.` and `..`, and the volume label where one stands. */
export function parseDirectory(bytes: Uint8Array): { entries: FatEntry[]; label?: string } {
  const entries: FatEntry[] = []
  let label: string | undefined
  let long: { checksum: number; parts: string[] } | undefined
  for (let at = 0; at + DIRECTORY_ENTRY.size <= bytes.length && bytes[at] !== 0; at += DIRECTORY_ENTRY.size) {
    const attributes = bytes[at + 11]
    if (bytes[at] === 0xe5) {
      long = undefined
      continue
    }
    if ((attributes & 0x3f) === ATTRIBUTE_LONG_NAME) {
      const part = LONG_NAME_ENTRY.read(bytes, at)
      const text = [part.first, part.second, part.third].map((b) => utf16ToString(b, 0, b.length / 2)).join('')
      if (!long || long.checksum !== part.checksum) long = { checksum: part.checksum, parts: [] }
      if (long.parts.length < 20) long.parts.unshift(text)
      continue
    }
    const entry = DIRECTORY_ENTRY.read(bytes, at)
    if (attributes & ATTRIBUTE_VOLUME) {
      label = entry.name.trimEnd()
    } else if (bytes[at] !== 0x2e) {
      const owns = long?.checksum === shortNameChecksum(bytes.subarray(at, at + 11))
      entries.push({
        name: owns ? trimLongName(long!.parts.join('')) : shortName(bytes.subarray(at, at + 11), entry.caseFlags),
        isDirectory: (attributes & ATTRIBUTE_DIRECTORY) !== 0,
        firstCluster: entry.clusterHigh * 65536 + entry.clusterLow,
        sizeBytes: entry.size,
        rowAt: at,
      })
    }
    long = undefined
  }
  return { entries, label }
}

function trimLongName(text: string): string {
  const end = text.indexOf('\0')
  return (end >= 0 ? text.slice(0, end) : text).replace(/\uffff+$/, '')
}

function shortName(bytes: Uint8Array, caseFlags: number): string {
  const text = asciiToString(bytes)
  let base = text.slice(0, 8).trimEnd()
  let extension = text.slice(8).trimEnd()
  // 0x05 stands for a first byte 0xE5, which would otherwise mark the entry as free.
  if (base.charCodeAt(0) === 0x05) base = `\u00e5${base.slice(1)}`
  if (caseFlags & CASE_LOWER_BASE) base = base.toLowerCase()
  if (caseFlags & CASE_LOWER_EXTENSION) extension = extension.toLowerCase()
  return extension ? `${base}.${extension}` : base
}
