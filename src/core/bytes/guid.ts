/** The GUID of no bytes set: an unused entry. */
export const NIL_GUID = '00000000-0000-0000-0000-000000000000'

// The first three groups are stored little-endian (UEFI 2.10, appendix A).
const ORDER = [3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15]
const PATTERN = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/

/** 16 stored bytes as lower-case `xxxxxxxx-xxxx-xxxx-xxxx-xxxxxxxxxxxx`. */
export function guidToString(bytes: Uint8Array): string {
  const hex = ORDER.map((from) => bytes[from].toString(16).padStart(2, '0')).join('')
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`
}

/** The 16 bytes in stored order. Throws RangeError when the text is not a GUID. */
export function guidToBytes(text: string): Uint8Array {
  const lower = text.toLowerCase()
  if (!PATTERN.test(lower)) throw new RangeError(`"${text}" is not a GUID.`)
  const hex = lower.replaceAll('-', '')
  const bytes = new Uint8Array(16)
  ORDER.forEach((to, i) => (bytes[to] = parseInt(hex.slice(i * 2, i * 2 + 2), 16)))
  return bytes
}

/** 16 bytes in the order they are written, as systems other than UEFI store a UUID. */
export function uuidToString(bytes: Uint8Array): string {
  const hex = Array.from(bytes.subarray(0, 16), (byte) => byte.toString(16).padStart(2, '0')).join('')
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`
}

/** The 16 bytes of a UUID in written order. Throws RangeError when the text is not one. */
export function uuidToBytes(text: string): Uint8Array {
  const lower = text.toLowerCase()
  if (!PATTERN.test(lower)) throw new RangeError(`"${text}" is not a UUID.`)
  return Uint8Array.from(lower.replaceAll('-', '').match(/../g)!, (pair) => parseInt(pair, 16))
}

/** First and last four digits, as people compare them: `7c1e…a204`. */
export function shortGuid(guid: string): string {
  return `${guid.slice(0, 4)}…${guid.slice(-4)}`
}

/** A GUID of sixteen bytes by chance (RFC 9562, version 4). */
export function guidByChance(chance: Uint8Array): string {
  const id = chance.slice(0, 16)
  // The third group is stored little-endian.
  id[7] = (id[7] & 0x0f) | 0x40
  id[8] = (id[8] & 0x3f) | 0x80
  return guidToString(id)
}
