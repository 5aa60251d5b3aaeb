import { stringToUtf16, viewOf } from '../bytes/struct'
import { alignUp } from '../bytes/size'
import {
  BIN_HEADER,
  DATA_INLINE,
  HEADER_BYTES,
  headerChecksum,
  HIVE_HEADER,
  KEY_ASCII_NAME,
  KEY_FIXED,
  KEY_NODE,
  KEY_ROOT,
  NONE,
  SECURITY,
  VALUE,
  VALUE_ASCII_NAME,
  VALUE_TYPES,
} from './layout'
import { inKeyOrder, putSubkeys } from './subkeys'

/** The version of the format that is written. */
const MINOR = 5

/** What a value of a new hive holds: text, a 32-bit number, bytes, or several texts. */
export type NewValue = string | number | Uint8Array | readonly string[]

/** A key of a new hive. */
export interface NewKey {
  readonly values?: Readonly<Record<string, NewValue>>
  readonly keys?: Readonly<Record<string, NewKey>>
}

/** The bytes of a hive with this content, settled. Names must be ASCII. */
export function makeHive(fileName: string, root: NewKey, modified: bigint): Uint8Array {
  const cells: Uint8Array[] = []
  let next = BIN_HEADER.size
  const put = (content: Uint8Array): number => {
    const size = alignUp(content.length + 4, 8)
    const cell = new Uint8Array(size)
    viewOf(cell).setInt32(0, -size, true)
    cell.set(content, 4)
    cells.push(cell)
    const at = next
    next += size
    return at
  }
  const security = put(securityCell(next))
  const securityBytes = cells[0].subarray(4)
  let keyCount = 0
  // Children name their parent, so a key's cell is placed first and filled when they are known.
  const putKey = (name: string, key: NewKey, parent: number): number => {
    const bytes = new Uint8Array(KEY_NODE.size + name.length)
    const at = put(bytes)
    const cell = cells.at(-1)!
    const values = Object.entries(key.values ?? {}).map(([valueName, value]) => putValue(put, valueName, value))
    keyCount++
    const names = Object.keys(key.keys ?? {})
    const children = inKeyOrder(names.map((child) => [child, putKey(child, key.keys![child], at)] as const))
    const node = cell.subarray(4)
    KEY_NODE.write(node, {
      signature: 'nk',
      flags: KEY_ASCII_NAME | (parent === NONE ? KEY_ROOT | KEY_FIXED : 0),
      modified,
      parent: parent === NONE ? 0 : parent,
      subkeyCount: children.length,
      subkeys: children.length > 0 ? putSubkeys(children, MINOR, put) : NONE,
      volatileSubkeys: NONE,
      valueCount: values.length,
      values: values.length > 0 ? put(offsets(values)) : NONE,
      security,
      className: NONE,
      longestSubkey: Math.max(0, ...names.map((n) => n.length * 2)),
      nameLength: name.length,
    })
    for (let i = 0; i < name.length; i++) node[KEY_NODE.size + i] = name.charCodeAt(i)
    return at
  }
  const rootAt = putKey('ROOT', root, NONE)
  SECURITY.write(securityBytes, { keys: keyCount })
  const binsBytes = alignUp(next, 4096)
  const free = binsBytes - next
  if (free > 0) {
    const cell = new Uint8Array(free)
    viewOf(cell).setInt32(0, free, true)
    cells.push(cell)
  }
  const hive = new Uint8Array(HEADER_BYTES + binsBytes)
  BIN_HEADER.write(hive, { signature: 'hbin', offset: 0, size: binsBytes, modified }, HEADER_BYTES)
  let at = HEADER_BYTES + BIN_HEADER.size
  for (const cell of cells) {
    hive.set(cell, at)
    at += cell.length
  }
  const header = {
    signature: 'regf',
    sequence1: 1,
    sequence2: 1,
    modified,
    major: 1,
    minor: MINOR,
    format: 1,
    root: rootAt,
    binsBytes,
    clustering: 1,
    fileName,
  }
  HIVE_HEADER.write(hive, header)
  HIVE_HEADER.write(hive, { checksum: headerChecksum(hive) })
  return hive
}

/** A value's bytes as they are stored, with their type. */
export function storedValue(value: NewValue): { type: number; data: Uint8Array } {
  if (typeof value === 'number') {
    const data = new Uint8Array(4)
    viewOf(data).setUint32(0, value, true)
    return { type: VALUE_TYPES.number, data }
  }
  if (typeof value === 'string') return { type: VALUE_TYPES.text, data: stringToUtf16(`${value}\0`) }
  if (value instanceof Uint8Array) return { type: VALUE_TYPES.binary, data: value }
  return { type: VALUE_TYPES.texts, data: stringToUtf16(`${value.map((text) => `${text}\0`).join('')}\0`) }
}

function putValue(put: (content: Uint8Array) => number, name: string, value: NewValue): number {
  const { type, data } = storedValue(value)
  const inline = data.length <= 4
  const bytes = new Uint8Array(VALUE.size + name.length)
  VALUE.write(bytes, {
    signature: 'vk',
    nameLength: name.length,
    dataLength: inline ? DATA_INLINE + data.length : data.length,
    data: inline ? 0 : put(data),
    type,
    flags: VALUE_ASCII_NAME,
  })
  if (inline) bytes.set(data, VALUE.fields.data[0])
  for (let i = 0; i < name.length; i++) bytes[VALUE.size + i] = name.charCodeAt(i)
  return put(bytes)
}

function offsets(places: readonly number[]): Uint8Array {
  const bytes = new Uint8Array(places.length * 4)
  places.forEach((place, i) => viewOf(bytes).setUint32(i * 4, place, true))
  return bytes
}

/** One security descriptor for all keys, linked to itself. */
function securityCell(at: number): Uint8Array {
  const descriptor = Uint8Array.of(1, 0, 0, 0x80, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0)
  const bytes = new Uint8Array(SECURITY.size + descriptor.length)
  SECURITY.write(bytes, { signature: 'sk', next: at, previous: at, length: descriptor.length })
  bytes.set(descriptor, SECURITY.size)
  return bytes
}
