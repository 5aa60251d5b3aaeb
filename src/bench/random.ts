/** A small seeded generator (mulberry32): the same bench is made every time. Numbers from 0 to below 1. */
export function seeded(seed: number): () => number {
  let state = seed >>> 0
  return () => {
    state = (state + 0x6d2b79f5) >>> 0
    let t = state
    t = Math.imul(t ^ (t >>> 15), t | 1)
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61)
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296
  }
}

/** Bytes that look like a program's: no pattern, and the same for the same seed. */
export function noise(length: number, seed: number): Uint8Array {
  const words = new Uint32Array(Math.ceil(length / 4))
  let state = (seed * 2654435761) >>> 0 || 1
  for (let i = 0; i < words.length; i++) {
    // Xorshift: three steps a word, since megabytes of it are made.
    state ^= state << 13
    state ^= state >>> 17
    state ^= state << 5
    words[i] = state
  }
  return new Uint8Array(words.buffer, 0, length)
}
