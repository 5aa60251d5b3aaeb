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
  return {
    name,
    size,
    fields,
    order,
    read(bytes, at = 0) {
      if (at < 0 || at + size > bytes.length) {
        throw new BadStructure(name, at, `it needs ${size} bytes and ${Math.max(0, bytes.length - at)} are left`)
      }
      const view = viewOf(bytes)
      const values: Record<string, unknown> = {}
      for (const [key, [offset, kind]] of list) values[key] = readField(name, bytes, view, at + offset, kind, little)
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

/** A DataView on exactly the bytes of `bytes`. */
export function viewOf(bytes: Uint8Array): DataView {
  return new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength)
}

/** A 64-bit field as a number; throws BadStructure when it is beyond 2^53. */
export function exactNumber(value: bigint, structure: string, offset: number): number {
  if (value > BigInt(Number.MAX_SAFE_INTEGER) || value < 0n) {
    throw new BadStructure(structure, offset, `the 64-bit value ${value} is out of any drive's range`)
  }
  return Number(value)
}

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

function readField(
  name: string,
  bytes: Uint8Array,
  view: DataView,
  at: number,
  kind: FieldKind,
  little: boolean,
): unknown {
  switch (kind) {
    case 'u8':
      return view.getUint8(at)
    case 'i8':
      return view.getInt8(at)
    case 'u16':
      return view.getUint16(at, little)
    case 'u32':
      return view.getUint32(at, little)
    case 'u64':
      return exactNumber(view.getBigUint64(at, little), name, at)
    case 'bits64':
      return view.getBigUint64(at, little)
    case 'guid':
      return guidToString(bytes.subarray(at, at + 16))
    case 'uuid':
      return uuidToString(bytes.subarray(at, at + 16))
  }
  const [what, length] = kind
  if (what === 'ascii') return asciiToString(bytes.subarray(at, at + length))
  if (what === 'utf16') return utf16ToString(bytes, at, length, true)
  return bytes.slice(at, at + length)
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
  const view = viewOf(bytes)
  return Object.entries(struct.fields)
    .map(([name, [offset, kind]]) => {
      let value: string
      try {
        value = valueText(kind, readField(struct.name, bytes, view, at + offset, kind, struct.order === 'little'))
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
