import { stringToUtf16 } from '../../bytes/struct'
import { ATTRIBUTE_LONG_NAME, DIRECTORY_ENTRY, LAST_LONG_ENTRY, LONG_NAME_ENTRY, shortNameChecksum } from './layout'

// Rows of a directory as they are written (section 7 of the specification).

/** 1 January 2026 in a directory entry's date. */
const DATE = ((2026 - 1980) << 9) | (1 << 5) | 1

/** Directory rows of a name: long-name entries where the name is no plain 8.3, then the short one. */
export function nameRows(name: string, taken: Set<string>): Uint8Array[] {
  const plain = /^([A-Z0-9_$~-]{1,8})(?:\.([A-Z0-9_$~-]{1,3}))?$/.exec(name)
  const short = plain ? plain[1].padEnd(8) + (plain[2] ?? '').padEnd(3) : alias(name, taken)
  taken.add(short)
  const row = entryRow(short, 0, 0, 0)
  if (plain) return [row]
  const checksum = shortNameChecksum(row.subarray(0, 11))
  const count = Math.ceil(name.length / 13)
  const rows: Uint8Array[] = []
  for (let order = count; order >= 1; order--) {
    const units = new Uint8Array(26).fill(0xff)
    const part = name.slice((order - 1) * 13, order * 13)
    units.set(stringToUtf16(part.length < 13 ? `${part}\0` : part))
    const long = new Uint8Array(32)
    LONG_NAME_ENTRY.write(long, {
      order: order === count ? order | LAST_LONG_ENTRY : order,
      first: units.subarray(0, 10),
      attributes: ATTRIBUTE_LONG_NAME,
      checksum,
      second: units.subarray(10, 22),
      third: units.subarray(22, 26),
    })
    rows.push(long)
  }
  return [...rows, row]
}

/** A short name for a long one: six characters, a tilde and a number. */
function alias(name: string, taken: Set<string>): string {
  const dot = name.lastIndexOf('.')
  const clean = (text: string) => text.toUpperCase().replace(/[^A-Z0-9_-]/g, '')
  const base = clean(dot > 0 ? name.slice(0, dot) : name)
  const extension = dot > 0 ? clean(name.slice(dot + 1)).slice(0, 3) : ''
  for (let i = 1; ; i++) {
    const tail = `~${i}`
    const short = (base.slice(0, 8 - tail.length) + tail).padEnd(8) + extension.padEnd(3)
    if (!taken.has(short)) return short
  }
}

/** A row of a directory entry under a short name. */
export function entryRow(name: string, attributes: number, cluster: number, size: number): Uint8Array {
  const row = new Uint8Array(32)
  DIRECTORY_ENTRY.write(row, { name, createdDate: DATE, accessedDate: DATE, modifiedDate: DATE })
  return withPlace(row, attributes, cluster, size)
}

/** The row with what it names: its first cluster, and its length in bytes. */
export function withPlace(row: Uint8Array, attributes: number, cluster: number, size: number): Uint8Array {
  const placed = row.slice()
  DIRECTORY_ENTRY.write(placed, { attributes, clusterHigh: cluster >>> 16, clusterLow: cluster & 0xffff, size })
  return placed
}
