/** A cryptographic digest, SHA-256 in this product, handed in by whoever runs core. */
export type Digest = (bytes: Uint8Array) => Uint8Array

export function toHex(bytes: Uint8Array): string {
  return Array.from(bytes, (byte) => byte.toString(16).padStart(2, '0')).join('')
}

/** The first digits of a digest, as evidence shows it. */
export function shortDigest(hex: string): string {
  return hex.slice(0, 12)
}
