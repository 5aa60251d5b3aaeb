import { viewOf } from '../bytes/struct'

// Lists of subkeys: lh with a hash of each name, lf with its first four letters, and ri, a list of lists.

/** A key as a list of subkeys has it: its name, and the place of its cell. */
export type ListedKey = readonly [name: string, at: number]

/** A list no longer than a bin; systems begin another one behind so many. */
const MOST_IN_LIST = 500
/** From this version on the lists carry hashes. */
const MINOR_WITH_HASHES = 5

/** Keys stand in the order of their upper-case names. */
export function inKeyOrder(children: readonly ListedKey[]): ListedKey[] {
  return [...children].sort(([a], [b]) => (a.toUpperCase() < b.toUpperCase() ? -1 : 1))
}

/** Stores a list of subkeys that are in order, by `put`, and gives the place of its cell. */
export function putSubkeys(children: readonly ListedKey[], minor: number, put: (cell: Uint8Array) => number): number {
  const leaf = minor >= MINOR_WITH_HASHES ? hashList : hintList
  if (children.length <= MOST_IN_LIST) return put(leaf(children))
  const lists: number[] = []
  for (let from = 0; from < children.length; from += MOST_IN_LIST) {
    lists.push(put(leaf(children.slice(from, from + MOST_IN_LIST))))
  }
  const bytes = new Uint8Array(4 + lists.length * 4)
  bytes.set([0x72, 0x69])
  viewOf(bytes).setUint16(2, lists.length, true)
  lists.forEach((at, i) => viewOf(bytes).setUint32(4 + i * 4, at, true))
  return put(bytes)
}

/** A hash of each name: 37 times what came before plus the next upper-case letter. */
function hashList(children: readonly ListedKey[]): Uint8Array {
  return listOf(children, [0x6c, 0x68], (name) => {
    let hash = 0
    for (const letter of name.toUpperCase()) hash = (Math.imul(hash, 37) + letter.charCodeAt(0)) >>> 0
    return hash
  })
}

function hintList(children: readonly ListedKey[]): Uint8Array {
  return listOf(children, [0x6c, 0x66], (name) =>
    [0, 1, 2, 3].reduce((sum, i) => sum + (name.charCodeAt(i) & 0xff || 0) * 2 ** (8 * i), 0),
  )
}

function listOf(children: readonly ListedKey[], mark: number[], tell: (name: string) => number): Uint8Array {
  const bytes = new Uint8Array(4 + children.length * 8)
  const view = viewOf(bytes)
  bytes.set(mark)
  view.setUint16(2, children.length, true)
  children.forEach(([name, at], i) => {
    view.setUint32(4 + i * 8, at, true)
    view.setUint32(8 + i * 8, tell(name), true)
  })
  return bytes
}
