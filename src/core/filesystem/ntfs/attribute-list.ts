import { alignUp } from '../../bytes/size'
import { stringToUtf16, utf16ToString } from '../../bytes/struct'
import { BadStructure } from '../../errors'
import { ATTRIBUTE_LIST_ENTRY } from './layout'

/** One line of an attribute list: which record holds which part of which attribute. */
export interface ListEntry {
  readonly type: number
  readonly name: string
  readonly lowestVcn: number
  /** Reference to the record that holds it, sequence included. */
  readonly record: bigint
  readonly id: number
  /** Byte of the list at which it was read. */
  readonly at: number
}

/** Longest list that systems read, in bytes. */
export const MOST_LIST_BYTES = 256 * 1024

/** The entries of an attribute list, in its order. Throws BadStructure. */
export function listEntries(bytes: Uint8Array): ListEntry[] {
  const entries: ListEntry[] = []
  for (let at = 0; at + ATTRIBUTE_LIST_ENTRY.size <= bytes.length;) {
    const { type, length, nameLength, nameOffset, lowestVcn, record, id } = ATTRIBUTE_LIST_ENTRY.read(bytes, at)
    if (length < ATTRIBUTE_LIST_ENTRY.size || at + length > bytes.length || nameOffset + nameLength * 2 > length) {
      throw new BadStructure('attribute list', at, `an entry of it is ${length} bytes long`)
    }
    entries.push({ type, name: utf16ToString(bytes, at + nameOffset, nameLength), lowestVcn, record, id, at })
    at += length
  }
  return entries
}

/** The bytes of a list with these entries. */
export function listBytes(entries: readonly Omit<ListEntry, 'at'>[]): Uint8Array {
  const names = entries.map((e) => stringToUtf16(e.name))
  const lengths = names.map((name) => alignUp(ATTRIBUTE_LIST_ENTRY.size + name.length, 8))
  const bytes = new Uint8Array(lengths.reduce((a, b) => a + b, 0))
  let at = 0
  for (const [i, { type, lowestVcn, record, id }] of entries.entries()) {
    const values = { type, length: lengths[i], nameLength: names[i].length / 2, nameOffset: ATTRIBUTE_LIST_ENTRY.size }
    ATTRIBUTE_LIST_ENTRY.write(bytes, { ...values, lowestVcn, record, id }, at)
    bytes.set(names[i], at + ATTRIBUTE_LIST_ENTRY.size)
    at += lengths[i]
  }
  return bytes
}
