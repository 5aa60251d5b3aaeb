declare module 'wawoff2' {
  /** The TrueType font in a WOFF2 file. Rejects when it is none. */
  export function decompress(bytes: Uint8Array): Promise<Uint8Array>
}
