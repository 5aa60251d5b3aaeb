/** Small helpers that the tests of core share. */

/** Equality of long byte arrays, which a matcher would compare element by element. */
export { sameBytes } from './bytes/same'

/** Everything an iterable gives. */
export async function collect<T>(items: AsyncIterable<T> | Iterable<T>): Promise<T[]> {
  const all: T[] = []
  for await (const item of items) all.push(item)
  return all
}

/** Bytes that differ from place to place and from seed to seed. */
export function pattern(length: number, seed = 0): Uint8Array {
  const bytes = new Uint8Array(length)
  for (let i = 0; i < length; i++) bytes[i] = i * 31 + seed * 17 + (i >> 8)
  return bytes
}

export function utf8(text: string): Uint8Array {
  return new TextEncoder().encode(text)
}

/** Takes the long runs of properties and damage in place of the quick ones. */
export const deep = process.env.IMBARCO_DEEP === '1'

/** How often a property is tried, in a quick run and in a long one. */
export const runsOf = (quick: number, long: number): number => (deep ? long : quick)
