import { BadStructure } from '../../errors'

const BLOCK = 4096

/**
 * Unpacks one compression unit of an NTFS stream (LZNT1): blocks of 4 KiB, each either as it is or packed with
 * tokens that copy from what came before in the same block. Fills `out`; what the data does not reach stays
 * zero. Throws BadStructure when a token points outside its block.
 */
export function unpackUnit(packed: Uint8Array, out: Uint8Array): void {
  const bad = (at: number, why: string) => new BadStructure('compressed data', at, why)
  let at = 0
  for (let start = 0; start < out.length && at + 2 <= packed.length; start += BLOCK) {
    const header = packed[at] | (packed[at + 1] << 8)
    // A header of zero ends the unit early.
    if (header === 0) return
    const end = at + 2 + (header & 0x0fff) + 1
    at += 2
    if (end > packed.length) throw bad(at - 2, 'a block is longer than its unit')
    const limit = Math.min(out.length, start + BLOCK)
    if ((header & 0x8000) === 0) {
      out.set(packed.subarray(at, Math.min(end, at + limit - start)), start)
      at = end
      continue
    }
    let to = start
    while (at < end) {
      let flags = packed[at++]
      for (let bit = 0; bit < 8 && at < end; bit++, flags >>= 1) {
        if ((flags & 1) === 0) {
          if (to >= limit) throw bad(at, 'a block unpacks to more than it may')
          out[to++] = packed[at++]
          continue
        }
        if (at + 2 > end || to === start) throw bad(at, 'a token is cut off or has nothing to copy')
        const token = packed[at] | (packed[at + 1] << 8)
        at += 2
        // How a token's 16 bits are shared between distance and length depends on the place in the block.
        let shift = 12
        for (let place = to - start - 1; place >= 16; place >>= 1) shift--
        const distance = (token >> shift) + 1
        const length = (token & ((1 << shift) - 1)) + 3
        if (distance > to - start || to + length > limit) throw bad(at - 2, 'a token points outside its block')
        for (let i = 0; i < length; i++, to++) out[to] = out[to - distance]
      }
    }
    at = end
  }
}
