/** So many characters are made in one call: a call takes as many arguments. */
const AT_ONCE = 8192

/** Bytes as base64 (RFC 4648, section 4). */
export function toBase64(bytes: Uint8Array): string {
  let text = ''
  for (let i = 0; i < bytes.length; i += AT_ONCE) text += String.fromCharCode(...bytes.subarray(i, i + AT_ONCE))
  return btoa(text)
}

/** Bytes of a text in base64. Throws where it is none; what comes from outside is checked before. */
export function fromBase64(text: string): Uint8Array {
  const characters = atob(text)
  const bytes = new Uint8Array(characters.length)
  // A loop, as an iterator over the characters of a journal takes twenty times as long.
  for (let i = 0; i < bytes.length; i++) bytes[i] = characters.charCodeAt(i)
  return bytes
}
