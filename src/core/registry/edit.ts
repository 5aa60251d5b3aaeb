import { viewOf } from '../bytes/struct'
import { BadStructure, CoreError } from '../errors'
import { Hive, type HiveKey } from './hive'
import {
  BIN_HEADER,
  DATA_INLINE,
  HEADER_BYTES,
  headerChecksum,
  HIVE_HEADER,
  KEY_NODE,
  LONGEST_PLAIN,
  NONE,
  VALUE,
  VALUE_ASCII_NAME,
} from './layout'
import { type NewValue, storedValue } from './make'

/** The hive was not written to its end by its system, so what is in its transaction log counts too. */
export class UnsettledHive extends CoreError {
  override readonly name = 'UnsettledHive'
}

/**
 * Changes values of a hive in memory. The file keeps its length: what needs more room than it had takes a free cell,
 * and is refused where there is none. Bytes that are not changed stay as they are.
 */
export class HiveEditor {
  private constructor(
    private readonly bytes: Uint8Array,
    private readonly hive: Hive,
  ) {}

  /** A copy of `file` is changed. Rejects with BadStructure, and with UnsettledHive where the two sequence numbers differ. */
  static async open(file: Uint8Array): Promise<HiveEditor> {
    const bytes = file.slice()
    const read = (offset: number, length: number) => Promise.resolve(bytes.subarray(offset, offset + length))
    const hive = await Hive.open(read, bytes.length)
    if (!hive.settled) {
      throw new UnsettledHive(
        'This registry hive was not closed: its system has changes in its log that it has to take in first. Nothing was changed.',
      )
    }
    return new HiveEditor(bytes, hive)
  }

  key(path: string): Promise<HiveKey | undefined> {
    return this.hive.key(path)
  }

  /** Gives an existing key a value in place of the one of that name, or a new one. */
  async set(key: HiveKey, name: string, value: NewValue): Promise<void> {
    const { type, data } = storedValue(value)
    if (data.length > LONGEST_PLAIN) throw new CoreError(`A value of ${data.length} bytes is too long to be written.`)
    const at = (await this.hive.valuePlaces(key)).find((v) => v.name.toUpperCase() === name.toUpperCase())?.at
    if (at === undefined) await this.add(key, name, type, data)
    else this.replace(at, type, data)
  }

  /** Takes a value out of a key; nothing happens where there is none of that name. */
  async remove(key: HiveKey, name: string): Promise<void> {
    const places = await this.hive.valuePlaces(key)
    const index = places.findIndex((v) => v.name.toUpperCase() === name.toUpperCase())
    if (index < 0) return
    const { at } = places[index]
    const node = HEADER_BYTES + key.at + 4
    const { valueCount, values } = KEY_NODE.read(this.bytes, node)
    const view = viewOf(this.bytes)
    const list = HEADER_BYTES + values + 4
    for (let i = 0, to = 0; i < valueCount; i++) {
      const place = view.getUint32(list + i * 4, true)
      if (place !== at) view.setUint32(list + to++ * 4, place, true)
    }
    const { dataLength, data } = VALUE.read(this.bytes, HEADER_BYTES + at + 4)
    if (dataLength > 0 && dataLength <= LONGEST_PLAIN) this.free(data)
    this.free(at)
    if (valueCount === 1) this.free(values)
    KEY_NODE.write(this.bytes, { valueCount: valueCount - 1, ...(valueCount === 1 ? { values: NONE } : {}) }, node)
  }

  /** The changed file, its sequence numbers one further and equal. */
  done(modified: bigint): Uint8Array {
    const { sequence1 } = HIVE_HEADER.read(this.bytes)
    const sequence = (sequence1 + 1) >>> 0
    HIVE_HEADER.write(this.bytes, { sequence1: sequence, sequence2: sequence, modified })
    HIVE_HEADER.write(this.bytes, { checksum: headerChecksum(this.bytes) })
    return this.bytes
  }

  private replace(at: number, type: number, data: Uint8Array): void {
    const place = HEADER_BYTES + at + 4
    const before = VALUE.read(this.bytes, place)
    const old = before.dataLength >= DATA_INLINE || before.dataLength === 0 ? undefined : before.data
    if (data.length <= 4) {
      VALUE.write(this.bytes, { type, dataLength: DATA_INLINE + data.length, data: 0 }, place)
      this.bytes.set(data, place + VALUE.fields.data[0])
      if (old !== undefined) this.free(old)
      return
    }
    const fits = old !== undefined && before.dataLength <= LONGEST_PLAIN && this.roomOf(old) >= data.length
    const home = fits ? old : this.take(data.length)
    if (!fits && old !== undefined) this.free(old)
    this.bytes.set(data, HEADER_BYTES + home + 4)
    VALUE.write(this.bytes, { type, dataLength: data.length, data: home }, place)
  }

  private async add(key: HiveKey, name: string, type: number, data: Uint8Array): Promise<void> {
    if (!/^[\x20-\x7e]{1,255}$/.test(name)) throw new CoreError('The name of a new value has to be plain text.')
    const node = HEADER_BYTES + key.at + 4
    const { valueCount, values, longestValue, longestValueName } = KEY_NODE.read(this.bytes, node)
    const vk = new Uint8Array(VALUE.size + name.length)
    VALUE.write(vk, {
      signature: 'vk',
      nameLength: name.length,
      dataLength: DATA_INLINE,
      type,
      flags: VALUE_ASCII_NAME,
    })
    for (let i = 0; i < name.length; i++) vk[VALUE.size + i] = name.charCodeAt(i)
    const at = this.take(vk.length)
    this.bytes.set(vk, HEADER_BYTES + at + 4)
    this.replace(at, type, data)
    const list = new Uint8Array((valueCount + 1) * 4)
    if (valueCount > 0) {
      const from = HEADER_BYTES + values + 4
      list.set(this.bytes.subarray(from, from + valueCount * 4))
    }
    viewOf(list).setUint32(valueCount * 4, at, true)
    const fits = values !== NONE && valueCount > 0 && this.roomOf(values) >= list.length
    const home = fits ? values : this.take(list.length)
    if (!fits && values !== NONE && valueCount > 0) this.free(values)
    this.bytes.set(list, HEADER_BYTES + home + 4)
    KEY_NODE.write(
      this.bytes,
      {
        valueCount: valueCount + 1,
        values: home,
        longestValue: Math.max(longestValue, data.length),
        longestValueName: Math.max(longestValueName, name.length * 2),
      },
      node,
    )
  }

  /** Bytes that a cell in use can hold. */
  private roomOf(at: number): number {
    const size = -viewOf(this.bytes).getInt32(HEADER_BYTES + at, true)
    if (size < 8 || HEADER_BYTES + at + size > this.bytes.length)
      throw new BadStructure('registry cell', HEADER_BYTES + at, `it is ${size} bytes long`)
    return size - 4
  }

  private free(at: number): void {
    const size = this.roomOf(at) + 4
    viewOf(this.bytes).setInt32(HEADER_BYTES + at, size, true)
  }

  /** A free cell for so many bytes, taken; the rest of it stays free. */
  private take(length: number): number {
    const wanted = Math.ceil((length + 4) / 8) * 8
    const view = viewOf(this.bytes)
    const { binsBytes } = HIVE_HEADER.read(this.bytes)
    const end = Math.min(binsBytes, this.bytes.length - HEADER_BYTES)
    for (let bin = 0; bin < end;) {
      const header = BIN_HEADER.read(this.bytes, HEADER_BYTES + bin)
      const bad = (why: string) => new BadStructure('hive bin', HEADER_BYTES + bin, why)
      if (header.signature !== 'hbin') throw bad('it does not carry its mark')
      if (header.size < 4096 || header.size % 4096 !== 0 || bin + header.size > end)
        throw bad(`it is ${header.size} bytes long`)
      for (let at = bin + BIN_HEADER.size; at < bin + header.size;) {
        const size = view.getInt32(HEADER_BYTES + at, true)
        const length = Math.abs(size)
        if (length < 8 || length % 8 !== 0 || at + length > bin + header.size)
          throw new BadStructure('registry cell', HEADER_BYTES + at, `it is ${length} bytes long`)
        if (size >= wanted) {
          // What is left has to be a cell of its own; less than the smallest one goes along.
          const rest = size - wanted >= 8 ? size - wanted : 0
          view.setInt32(HEADER_BYTES + at, -(size - rest), true)
          if (rest > 0) view.setInt32(HEADER_BYTES + at + size - rest, rest, true)
          this.bytes.fill(0, HEADER_BYTES + at + 4, HEADER_BYTES + at + size - rest)
          return at
        }
        at += length
      }
      bin += header.size
    }
    throw new CoreError(`The registry hive has no free room for ${length} bytes. Nothing was changed.`)
  }
}
