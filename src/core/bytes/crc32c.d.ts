declare module 'crc-32/crc32c' {
  const crc32c: { buf(bytes: Uint8Array | readonly number[], seed?: number): number }
  export default crc32c
}
