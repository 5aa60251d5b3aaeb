import { BadStructure } from '../errors'
import { guidToString, guidToBytes, uuidToBytes, uuidToString } from './guid'

/**
 * How one field of an on-disk structure is stored. Integers have the byte order of their structure, little-endian
 * where it says nothing. A `guid` has its first three groups little-endian, a `uuid` is 16 bytes as they come.
 * `u64` must be exact as a number (up to 2^53); `bits64` is a bigint for flags and serials.
 */
export type FieldKind =
  | 'u8'
  | 'i8'
  | 'u16'
  | 'u32'
  | 'u64'
  | 'bits64'
  | 'guid'
  | 'uuid'
  | readonly ['ascii', number]
  | readonly ['utf16', number]
  | readonly ['bytes', number]

export type ByteOrder = 'little' | 'big'

/** Offset in bytes, kind. */
export type Field = readonly [offset: number, kind: FieldKind]

type ValueOf<K extends FieldKind> = K extends 'bits64'
  ? bigint
  : K extends 'guid' | 'uuid' | readonly ['ascii', number] | readonly ['utf16', number]
    ? string
    : K extends readonly ['bytes', number]
      ? Uint8Array
      : number

export type StructValues<F extends Record<string, Field>> = { [N in keyof F]: ValueOf<F[N][1]> }

/** A structure as the specification draws it: one table used by reader and writer alike. */
export interface Struct<F extends Record<string, Field>> {
  readonly name: string
  readonly size: number
  readonly fields: F
  readonly order: ByteOrder
  /** Reads all fields. Throws BadStructure when the bytes are too short or a `u64` is not exact. */
  read(bytes: Uint8Array, at?: number): StructValues<F>
  /** Writes the fields given, leaving other bytes as they are. */
  write(bytes: Uint8Array, values: Partial<StructValues<F>>, at?: number): void
}

/** Declares a structure of `size` bytes from a table of offsets and kinds. */
export function defineStruct<const F extends Record<string, Field>>(
  name: string,
  size: number,
  fields: F,
  order: ByteOrder = 'little',
): Struct<F> {
  const little = order === 'little'
  const list = Object.entries(fields)
  const names = list.map(([key]) => key)
  // Decided once for each field, since structures are read by the million.
  const readers = list.map(([, [offset, kind]]) => readerOf(name, offset, kind, little))
  return {
    name,
    size,
    fields,
    order,
    read(bytes, at = 0) {
      if (at < 0 || at + size > bytes.length) {
        throw new BadStructure(name, at, `it needs ${size} bytes and ${Math.max(0, bytes.length - at)} are left`)
      }
      const values: Record<string, unknown> = {}
      for (let i = 0; i < readers.length; i++) values[names[i]] = readers[i](bytes, at)
      return values as StructValues<F>
    },
    write(bytes, values, at = 0) {
      const view = viewOf(bytes)
      for (const [key, [offset, kind]] of list) {
        const value = values[key]
        if (value !== undefined) writeField(bytes, view, at + offset, kind, value, little)
      }
    },
  }
}

/** The same structure with some of its fields, for whoever reads very many and asks for no other. */
export function fieldsOf<F extends Record<string, Field>, N extends keyof F & string>(
  { name, size, fields, order }: Struct<F>,
  ...wanted: readonly N[]
): Struct<Pick<F, N>> {
  return defineStruct(name, size, Object.fromEntries(wanted.map((key) => [key, fields[key]])) as Pick<F, N>, order)
}

/** A DataView on exactly the bytes of `bytes`. */
export function viewOf(bytes: Uint8Array): DataView {
  return new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
}

/** Throws BadStructure when it is not below 2^53. */
function u64(bytes: Uint8Array, at: number, structure: string, little: boolean): number {
  const high = u32(bytes, little ? at + 4 : at, little)
  if (high >= 2 ** 21) {
    const value = viewOf(bytes).getBigUint64(at, little)
    throw new BadStructure(structure, at, `the 64-bit value ${value} is out of any drive's range`)
  }
  return high * 2 ** 32 + u32(bytes, little ? at : at + 4, little)
}

const u16 = (bytes: Uint8Array, at: number, little: boolean) =>
  little ? bytes[at] | (bytes[at + 1] << 8) : (bytes[at] << 8) | bytes[at + 1]

const u32 = (bytes: Uint8Array, at: number, little: boolean) =>
  (u16(bytes, little ? at : at + 2, little) | (u16(bytes, little ? at + 2 : at, little) << 16)) >>> 0

/** UTF-16 little-endian bytes as a string; stops at the first zero when `untilZero`. */
export function utf16ToString(bytes: Uint8Array, at: number, characters: number, untilZero = false): string {
  let text = ''
  // Directories of many thousand names are read with this; a view for each name took most of the time.
  for (let i = at; i < at + characters * 2; i += 2) {
    if (i + 1 >= bytes.length) throw new RangeError('The text goes on behind the end of its bytes.')
    const unit = bytes[i] | (bytes[i + 1] << 8)
    if (untilZero && unit === 0) break
    text += String.fromCharCode(unit)
  }
  return text
}

/** A string as UTF-16 little-endian bytes, without a terminator. */
export function stringToUtf16(text: string): Uint8Array {
  const bytes = new Uint8Array(text.length * 2)
  const view = viewOf(bytes)
  for (let i = 0; i < text.length; i++) view.setUint16(i * 2, text.charCodeAt(i), true)
  return bytes
}

/** True when these characters stand at that place. */
export function hasText(bytes: Uint8Array, at: number, text: string): boolean {
  return asciiToString(bytes.subarray(at, at + text.length)) === text
}

/** Single-byte characters as a string, trailing zeros and spaces kept. */
export function asciiToString(bytes: Uint8Array): string {
  let text = ''
  for (const byte of bytes) text += String.fromCharCode(byte)
  return text
}

/** Reads one field of a structure that begins at `at` and lies in the bytes with all of it. */
type Reader = (bytes: Uint8Array, at: number) => unknown

/** Without a view for each structure, which took longer than reading it. */
function readerOf(name: string, offset: number, kind: FieldKind, little: boolean): Reader {
  switch (kind) {
    case 'u8':
      return (bytes, at) => bytes[at + offset]
    case 'i8':
      return (bytes, at) => (bytes[at + offset] << 24) >> 24
    case 'u16':
      return (bytes, at) => u16(bytes, at + offset, little)
    case 'u32':
      return (bytes, at) => u32(bytes, at + offset, little)
    case 'u64':
      return (bytes, at) => u64(bytes, at + offset, name, little)
    case 'bits64':
      return (bytes, at) => viewOf(bytes).getBigUint64(at + offset, little)
    case 'guid':
      return (bytes, at) => guidToString(bytes.subarray(at + offset, at + offset + 16))
    case 'uuid':
      return (bytes, at) => uuidToString(bytes.subarray(at + offset, at + offset + 16))
  }
  const [what, length] = kind
  if (what === 'ascii') return (bytes, at) => asciiToString(bytes.subarray(at + offset, at + offset + length))
  if (what === 'utf16') return (bytes, at) => utf16ToString(bytes, at + offset, length, true)
  return (bytes, at) => bytes.slice(at + offset, at + offset + length)
}

function writeField(
  bytes: Uint8Array,
  view: DataView,
  at: number,
  kind: FieldKind,
  value: unknown,
  little: boolean,
): void {
  switch (kind) {
    case 'u8':
      return view.setUint8(at, value as number)
    case 'i8':
      return view.setInt8(at, value as number)
    case 'u16':
      return view.setUint16(at, value as number, little)
    case 'u32':
      return view.setUint32(at, value as number, little)
    case 'u64':
      return view.setBigUint64(at, BigInt(value as number), little)
    case 'bits64':
      return view.setBigUint64(at, value as bigint, little)
    case 'guid':
      return bytes.set(guidToBytes(value as string), at)
    case 'uuid':
      return bytes.set(uuidToBytes(value as string), at)
  }
  const [what, length] = kind
  if (what === 'bytes') {
    bytes.fill(0, at, at + length)
    bytes.set((value as Uint8Array).subarray(0, length), at)
    return
  }
  const text = value as string
  if (what === 'ascii') {
    for (let i = 0; i < length; i++) bytes[at + i] = i < text.length ? text.charCodeAt(i) & 0xff : 0
    return
  }
  bytes.fill(0, at, at + length * 2)
  bytes.set(stringToUtf16(text.slice(0, length)), at)
}

/** One field as it stands in some bytes, for whoever wants to see. */
export interface FieldView {
  readonly name: string
  /** From the start of the structure. */
  readonly offset: number
  readonly length: number
  readonly value: string
}

const LENGTHS = { u8: 1, i8: 1, u16: 2, u32: 4, u64: 8, bits64: 8, guid: 16, uuid: 16 } as const

/** Bytes that a field of this kind takes. */
export function fieldLength(kind: FieldKind): number {
  if (typeof kind === 'string') return LENGTHS[kind]
  return kind[0] === 'utf16' ? kind[1] * 2 : kind[1]
}

/** All fields of a structure with their values in words, in order of their places. A value that is none is told so. */
export function viewFields(struct: Struct<Record<string, Field>>, bytes: Uint8Array, at: number): FieldView[] {
  return Object.entries(struct.fields)
    .map(([name, [offset, kind]]) => {
      let value: string
      try {
        if (at + offset + fieldLength(kind) > bytes.length) throw new RangeError('The field lies behind the bytes.')
        value = valueText(kind, readerOf(struct.name, offset, kind, struct.order === 'little')(bytes, at))
      } catch {
        value = 'out of range'
      }
      return { name, offset, length: fieldLength(kind), value }
    })
    .sort((a, b) => a.offset - b.offset)
}

function valueText(kind: FieldKind, value: unknown): string {
  if (value instanceof Uint8Array) {
    const shown = Array.from(value.subarray(0, 12), (byte) => byte.toString(16).padStart(2, '0')).join(' ')
    return value.length > 12 ? `${shown} … (${value.length} bytes)` : shown
  }
  if (typeof value === 'bigint') return `0x${value.toString(16)}`
  if (typeof value === 'number')
    return kind === 'u8' || value > 9 ? `${value} (0x${value.toString(16)})` : String(value)
  return JSON.stringify(String(value).replace(/[\0-\x1f\x7f-\x9f]/g, '·'))
}
