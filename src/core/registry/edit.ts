import { viewOf } from '../bytes/struct'
import { BadStructure, CoreError } from '../errors'
import { Hive, type HiveKey } from './hive'
import { HiveCells } from './cells'
import {
  DATA_INLINE,
  HEADER_BYTES,
  headerChecksum,
  HIVE_HEADER,
  KEY_ASCII_NAME,
  KEY_NODE,
  LONGEST_PLAIN,
  NONE,
  SECURITY,
  VALUE,
  VALUE_ASCII_NAME,
} from './layout'
import { type NewValue, storedValue } from './make'
import { inKeyOrder, putSubkeys } from './subkeys'

/** The hive was not written to its end by its system, so what is in its transaction log counts too. */
export class DirtyHive extends CoreError {
  override readonly name = 'DirtyHive'
}

/** No tree of keys that is taken out has more of them. */
const MOST_REMOVED = 65536

export interface EditOptions {
  /** Makes the file longer by so much where its free cells do not do. */
  readonly spareBytes?: number
}

/**
 * Changes keys and values of a hive in memory. Without spare room the file keeps its length: what needs more room than
 * it had takes a free cell, and is refused where there is none. Bytes that are not changed stay as they are.
 */
export class HiveEditor {
  private constructor(
    private readonly cells: HiveCells,
    private readonly hive: Hive,
  ) {}

  /** A copy of `file` is changed. Rejects with BadStructure, and with DirtyHive where the two sequence numbers differ. */
  static async open(file: Uint8Array, { spareBytes = 0 }: EditOptions = {}): Promise<HiveEditor> {
    const plain = (bytes: Uint8Array) => (offset: number, length: number) =>
      Promise.resolve(bytes.subarray(offset, offset + length))
    const { settled } = await Hive.open(plain(file), file.length)
    if (!settled) {
      throw new DirtyHive(
        'This registry hive was not closed: its system has changes in its log that it has to take in first. Nothing was changed.',
      )
    }
    const cells = HiveCells.of(file, spareBytes)
    // Its checksum is set when all is done; until then it has to hold for reading.
    HIVE_HEADER.write(cells.bytes, { checksum: headerChecksum(cells.bytes) })
    return new HiveEditor(cells, await Hive.open(plain(cells.bytes), cells.bytes.length))
  }

  private get bytes(): Uint8Array {
    return this.cells.bytes
  }

  key(path: string): Promise<HiveKey | undefined> {
    return this.hive.key(path)
  }

  keys(key: HiveKey): Promise<HiveKey[]> {
    return this.hive.keys(key)
  }

  /** What a value of a key holds; undefined where there is none. */
  async value(key: HiveKey, name: string): Promise<Uint8Array | undefined> {
    return (await this.hive.find(key, name))?.data
  }

  /** The key at a path; what is missing of it is made, with the rights of the key above it. */
  async make(path: string, modified: bigint): Promise<HiveKey> {
    let at = this.hive.root
    for (const name of path.split('\\').filter(Boolean)) {
      at = (await this.hive.key(name, at)) ?? (await this.makeBelow(at, name, modified))
    }
    return at
  }

  /** Takes a key out with all that is below it; nothing happens where there is none. */
  async removeKey(path: string): Promise<void> {
    const name = path.split('\\').filter(Boolean).at(-1)
    const key = await this.hive.key(path)
    if (!name || !key) return
    const parent = (await this.hive.key(path.slice(0, path.length - name.length)))!
    const others = (await this.hive.keys(parent)).filter((k) => k.at !== key.at)
    await this.listBelow(parent, others)
    const seen = new Set<number>()
    const left = [key]
    while (left.length > 0) {
      const next = left.pop()!
      if (seen.has(next.at) || seen.size > MOST_REMOVED)
        throw new BadStructure('registry key', next.at, 'it leads back to itself')
      seen.add(next.at)
      left.push(...(await this.hive.keys(next)))
      await this.freeKey(next)
    }
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
    if (dataLength > 0 && dataLength <= LONGEST_PLAIN) this.cells.free(data)
    this.cells.free(at)
    if (valueCount === 1) this.cells.free(values)
    KEY_NODE.write(this.bytes, { valueCount: valueCount - 1, ...(valueCount === 1 ? { values: NONE } : {}) }, node)
  }

  /** The changed file, its sequence numbers one further and equal. */
  done(modified: bigint): Uint8Array {
    const bytes = this.cells.done()
    const { sequence1 } = HIVE_HEADER.read(bytes)
    const sequence = (sequence1 + 1) >>> 0
    HIVE_HEADER.write(bytes, { sequence1: sequence, sequence2: sequence, modified })
    HIVE_HEADER.write(bytes, { checksum: headerChecksum(bytes) })
    return bytes
  }

  private async makeBelow(parent: HiveKey, name: string, modified: bigint): Promise<HiveKey> {
    if (!/^[\x20-\x5b\x5d-\x7e]{1,255}$/.test(name)) throw new CoreError('The name of a new key has to be plain text.')
    const { security, longestSubkey } = KEY_NODE.read(this.bytes, HEADER_BYTES + parent.at + 4)
    const node = new Uint8Array(KEY_NODE.size + name.length)
    KEY_NODE.write(node, {
      signature: 'nk',
      flags: KEY_ASCII_NAME,
      modified,
      parent: parent.at,
      subkeys: NONE,
      volatileSubkeys: NONE,
      values: NONE,
      security,
      className: NONE,
      nameLength: name.length,
    })
    for (let i = 0; i < name.length; i++) node[KEY_NODE.size + i] = name.charCodeAt(i)
    const key = { at: this.cells.put(node), name }
    this.countSecurity(security, 1)
    await this.listBelow(parent, [...(await this.hive.keys(parent)), key])
    const longest = { longestSubkey: Math.max(longestSubkey, name.length * 2) }
    KEY_NODE.write(this.bytes, longest, HEADER_BYTES + parent.at + 4)
    return key
  }

  /** Gives a key another list of subkeys. */
  private async listBelow(parent: HiveKey, children: readonly HiveKey[]): Promise<void> {
    const old = await this.hive.listPlaces(parent)
    const { minor } = HIVE_HEADER.read(this.bytes)
    const listed = inKeyOrder(children.map(({ name, at }) => [name, at] as const))
    const subkeys = listed.length > 0 ? putSubkeys(listed, minor, (cell) => this.cells.put(cell)) : NONE
    KEY_NODE.write(this.bytes, { subkeyCount: listed.length, subkeys }, HEADER_BYTES + parent.at + 4)
    for (const place of old) this.cells.free(place)
  }

  private async freeKey(key: HiveKey): Promise<void> {
    const { values, valueCount, security, className } = KEY_NODE.read(this.bytes, HEADER_BYTES + key.at + 4)
    for (const { at } of await this.hive.valuePlaces(key)) {
      const { dataLength, data } = VALUE.read(this.bytes, HEADER_BYTES + at + 4)
      if (dataLength > 0 && dataLength <= LONGEST_PLAIN) this.cells.free(data)
      this.cells.free(at)
    }
    if (valueCount > 0 && values !== NONE) this.cells.free(values)
    if (className !== NONE) this.cells.free(className)
    for (const place of await this.hive.listPlaces(key)) this.cells.free(place)
    this.countSecurity(security, -1)
    this.cells.free(key.at)
  }

  /** One key more, or fewer, has these rights; rights that no key has any more leave the ring. */
  private countSecurity(at: number, by: number): void {
    if (at === NONE) return
    this.cells.roomOf(at)
    const place = HEADER_BYTES + at + 4
    const { signature, keys, next, previous } = SECURITY.read(this.bytes, place)
    if (signature !== 'sk') throw new BadStructure('registry security', place, 'it does not carry its mark')
    SECURITY.write(this.bytes, { keys: Math.max(0, keys + by) }, place)
    if (keys + by > 0 || next === at) return
    this.cells.roomOf(next)
    this.cells.roomOf(previous)
    SECURITY.write(this.bytes, { previous }, HEADER_BYTES + next + 4)
    SECURITY.write(this.bytes, { next }, HEADER_BYTES + previous + 4)
    this.cells.free(at)
  }

  private replace(at: number, type: number, data: Uint8Array): void {
    const place = HEADER_BYTES + at + 4
    const before = VALUE.read(this.bytes, place)
    const old = before.dataLength >= DATA_INLINE || before.dataLength === 0 ? undefined : before.data
    if (data.length <= 4) {
      VALUE.write(this.bytes, { type, dataLength: DATA_INLINE + data.length, data: 0 }, place)
      this.bytes.set(data, place + VALUE.fields.data[0])
      if (old !== undefined) this.cells.free(old)
      return
    }
    const fits = old !== undefined && before.dataLength <= LONGEST_PLAIN && this.cells.roomOf(old) >= data.length
    const home = fits ? old : this.cells.take(data.length)
    if (!fits && old !== undefined) this.cells.free(old)
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
    const at = this.cells.take(vk.length)
    this.bytes.set(vk, HEADER_BYTES + at + 4)
    this.replace(at, type, data)
    const list = new Uint8Array((valueCount + 1) * 4)
    if (valueCount > 0) {
      const from = HEADER_BYTES + values + 4
      list.set(this.bytes.subarray(from, from + valueCount * 4))
    }
    viewOf(list).setUint32(valueCount * 4, at, true)
    const fits = values !== NONE && valueCount > 0 && this.cells.roomOf(values) >= list.length
    const home = fits ? values : this.cells.take(list.length)
    if (!fits && values !== NONE && valueCount > 0) this.cells.free(values)
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
}
