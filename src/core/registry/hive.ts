import { asciiToString, utf16ToString, viewOf } from '../bytes/struct'
import { BadStructure } from '../errors'
import {
  DATA_INLINE,
  HEADER_BYTES,
  headerChecksum,
  HIVE_HEADER,
  KEY_ASCII_NAME,
  KEY_NODE,
  LONGEST_PLAIN,
  NONE,
  VALUE,
  VALUE_ASCII_NAME,
  VALUE_TYPES,
} from './layout'

/** Reads part of the hive's file. */
export type HiveReader = (offset: number, length: number) => Promise<Uint8Array>

/** One value of a key. `data` is as stored. */
export interface HiveValue {
  readonly name: string
  readonly type: number
  readonly data: Uint8Array
}

/** A key, by the place of its cell. */
export interface HiveKey {
  readonly at: number
  readonly name: string
}

const MAX_CELL = 1024 * 1024
const MAX_LIST = 65536

/**
 * A registry hive, read where it lies: only the cells on the way are read, so that a hive of any size costs
 * little. Throws BadStructure.
 */
export class Hive {
  private constructor(
    private readonly read: HiveReader,
    private readonly size: number,
    readonly root: HiveKey,
    /** Both sequence numbers agree, so the file was written to its end. */
    readonly settled: boolean,
  ) {}

  static async open(read: HiveReader, size: number): Promise<Hive> {
    if (size < HEADER_BYTES) throw new BadStructure('registry hive', 0, `it is ${size} bytes long`)
    const bytes = await read(0, 512)
    const header = HIVE_HEADER.read(bytes)
    if (header.signature !== 'regf') throw new BadStructure('registry hive', 0, 'it does not carry its mark')
    if (headerChecksum(bytes) !== header.checksum)
      throw new BadStructure('registry hive', 508, 'its header fails its checksum')
    const settled = header.sequence1 === header.sequence2
    const hive = new Hive(read, Math.min(size, HEADER_BYTES + header.binsBytes), { at: header.root, name: '' }, settled)
    await hive.node(header.root)
    return hive
  }

  /** The key at a path of names separated by backslashes, or undefined. Case does not matter. */
  async key(path: string, from: HiveKey = this.root): Promise<HiveKey | undefined> {
    let at: HiveKey | undefined = from
    for (const name of path.split('\\').filter(Boolean)) {
      at = (await this.keys(at)).find((key) => key.name.toUpperCase() === name.toUpperCase())
      if (!at) return undefined
    }
    return at
  }

  /** The keys below one. */
  async keys(key: HiveKey): Promise<HiveKey[]> {
    const { values } = await this.node(key.at)
    if (values.subkeyCount === 0 || values.subkeys === NONE) return []
    const found: HiveKey[] = []
    for (const at of await this.listed(values.subkeys, 0)) {
      const { name } = await this.node(at)
      found.push({ at, name })
    }
    return found
  }

  /** Where the cells of a key's list of subkeys lie; more than one where it is a list of lists. */
  async listPlaces(key: HiveKey): Promise<number[]> {
    const { values } = await this.node(key.at)
    if (values.subkeyCount === 0 || values.subkeys === NONE) return []
    const cell = await this.cell(values.subkeys)
    if (asciiToString(cell.subarray(0, 2)) !== 'ri') return [values.subkeys]
    const count = Math.min(viewOf(cell).getUint16(2, true), Math.floor((cell.length - 4) / 4))
    return [values.subkeys, ...Array.from({ length: count }, (_, i) => viewOf(cell).getUint32(4 + i * 4, true))]
  }

  /** The values of a key. */
  async values(key: HiveKey): Promise<HiveValue[]> {
    const found: HiveValue[] = []
    for (const at of await this.listedValues(key)) found.push(await this.value(at))
    return found
  }

  /** The values of a key by the place of their cells, without their data. */
  async valuePlaces(key: HiveKey): Promise<{ name: string; at: number }[]> {
    const found: { name: string; at: number }[] = []
    for (const at of await this.listedValues(key)) found.push({ name: (await this.valueHead(at)).name, at })
    return found
  }

  /** A value by its name, or undefined. */
  async find(key: HiveKey, name: string): Promise<HiveValue | undefined> {
    return (await this.values(key)).find((v) => v.name.toUpperCase() === name.toUpperCase())
  }

  private async listedValues(key: HiveKey): Promise<number[]> {
    const { values: node } = await this.node(key.at)
    if (node.valueCount === 0 || node.values === NONE) return []
    const list = await this.cell(node.values)
    if (node.valueCount * 4 > list.length || node.valueCount > MAX_LIST) {
      throw new BadStructure('registry key', node.values, `it claims ${node.valueCount} values`)
    }
    return Array.from({ length: node.valueCount }, (_, i) => viewOf(list).getUint32(i * 4, true))
  }

  /** A value as text, or undefined where it is missing or of another type. */
  async text(key: HiveKey, name: string): Promise<string | undefined> {
    const value = await this.find(key, name)
    if (!value || (value.type !== VALUE_TYPES.text && value.type !== VALUE_TYPES.expandable)) return undefined
    return utf16ToString(value.data, 0, Math.floor(value.data.length / 2), true)
  }

  /** A value as a 32-bit number, or undefined where it is missing or of another type. */
  async number(key: HiveKey, name: string): Promise<number | undefined> {
    const value = await this.find(key, name)
    if (value?.type !== VALUE_TYPES.number || value.data.length < 4) return undefined
    return viewOf(value.data).getUint32(0, true)
  }

  private async valueHead(at: number) {
    const cell = await this.cell(at)
    const value = VALUE.read(cell)
    const bad = (why: string) => new BadStructure('registry value', at, why)
    if (value.signature !== 'vk') throw bad('it does not carry its mark')
    if (VALUE.size + value.nameLength > cell.length) throw bad('its name is longer than its cell')
    const name = nameOf(cell, VALUE.size, value.nameLength, (value.flags & VALUE_ASCII_NAME) !== 0)
    return { cell, value, name, bad }
  }

  private async value(at: number): Promise<HiveValue> {
    const { cell, value, name, bad } = await this.valueHead(at)
    if (value.dataLength >= DATA_INLINE) {
      return { name, type: value.type, data: cell.slice(8, 8 + Math.min(4, value.dataLength - DATA_INLINE)) }
    }
    if (value.dataLength === 0) return { name, type: value.type, data: new Uint8Array() }
    if (value.dataLength > MAX_CELL) throw bad(`it is ${value.dataLength} bytes long`)
    const data = await this.cell(value.data)
    if (value.dataLength > LONGEST_PLAIN && asciiToString(data.subarray(0, 2)) === 'db') {
      return { name, type: value.type, data: await this.parts(data, value.dataLength) }
    }
    if (value.dataLength > data.length) throw bad('its data is longer than its cell')
    return { name, type: value.type, data: data.slice(0, value.dataLength) }
  }

  private async parts(head: Uint8Array, length: number): Promise<Uint8Array> {
    const count = viewOf(head).getUint16(2, true)
    const list = await this.cell(viewOf(head).getUint32(4, true))
    if (count * 4 > list.length) throw new BadStructure('registry value', 0, `it claims ${count} parts`)
    const data = new Uint8Array(length)
    let filled = 0
    for (let i = 0; i < count && filled < length; i++) {
      const part = await this.cell(viewOf(list).getUint32(i * 4, true))
      const bytes = part.subarray(0, Math.min(LONGEST_PLAIN, length - filled, part.length))
      data.set(bytes, filled)
      filled += bytes.length
    }
    if (filled < length) throw new BadStructure('registry value', 0, 'its parts are shorter than it')
    return data
  }

  /** The cells that a list of subkeys names, through an index of lists where there is one. */
  private async listed(at: number, depth: number): Promise<number[]> {
    const cell = await this.cell(at)
    const kind = asciiToString(cell.subarray(0, 2))
    const count = viewOf(cell).getUint16(2, true)
    const bad = (why: string) => new BadStructure('registry key list', at, why)
    const step = kind === 'lf' || kind === 'lh' ? 8 : kind === 'li' || kind === 'ri' ? 4 : 0
    if (step === 0 || 4 + count * step > cell.length) throw bad('it contradicts itself')
    const places = Array.from({ length: count }, (_, i) => viewOf(cell).getUint32(4 + i * step, true))
    if (kind !== 'ri') return places
    if (depth > 0) throw bad('an index names another index')
    const all: number[] = []
    for (const place of places) {
      all.push(...(await this.listed(place, depth + 1)))
      if (all.length > MAX_LIST) throw bad(`it names more than ${MAX_LIST} keys`)
    }
    return all
  }

  private async node(at: number) {
    const cell = await this.cell(at)
    const values = KEY_NODE.read(cell)
    if (values.signature !== 'nk') throw new BadStructure('registry key', at, 'it does not carry its mark')
    if (KEY_NODE.size + values.nameLength > cell.length) {
      throw new BadStructure('registry key', at, 'its name is longer than its cell')
    }
    return { values, name: nameOf(cell, KEY_NODE.size, values.nameLength, (values.flags & KEY_ASCII_NAME) !== 0) }
  }

  /** The content of a cell in use, its size field left off. Offsets count from behind the header. */
  private async cell(at: number): Promise<Uint8Array> {
    const offset = HEADER_BYTES + at
    const bad = (why: string) => new BadStructure('registry cell', offset, why)
    if (at === NONE || at % 8 !== 0 || offset + 8 > this.size) throw bad('it lies outside the hive')
    const size = -viewOf(await this.read(offset, 4)).getInt32(0, true)
    if (size < 8 || size > MAX_CELL || offset + size > this.size) throw bad(`it is ${size} bytes long`)
    return this.read(offset + 4, size - 4)
  }
}

function nameOf(cell: Uint8Array, at: number, length: number, single: boolean): string {
  return single ? asciiToString(cell.subarray(at, at + length)) : utf16ToString(cell, at, Math.floor(length / 2))
}
