/** Bytes as base64 (RFC 4648, section 4). */
export function toBase64(bytes: Uint8Array): string {
  let text = ''
  for (let i = 0; i < bytes.length; i++) text += String.fromCharCode(bytes[i])
  return btoa(text)
}

/** Bytes of a text in base64. Throws where it is none; what comes from outside is checked before. */
export function fromBase64(text: string): Uint8Array {
  return Uint8Array.from(atob(text), (c) => c.charCodeAt(0))
}
