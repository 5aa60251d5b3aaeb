import { viewOf } from '../../bytes/struct'
import { BadStructure } from '../../errors'

/** Update-sequence protection works per 512 bytes, whatever the drive's sectors are. */
const STRIDE = 512

/**
 * Takes the update sequence out of a multi-sector record, in place: the last two bytes of every 512 must
 * equal the sequence number and are put back from the array. Throws BadStructure when one does not, which
 * means that the record was written only in part.
 */
export function removeFixups(record: Uint8Array, offset: number, what: string): void {
  const view = viewOf(record)
  const at = view.getUint16(4, true)
  const count = view.getUint16(6, true)
  if (count !== record.length / STRIDE + 1 || at % 2 !== 0 || at + count * 2 > STRIDE - 2) {
    throw new BadStructure(what, offset, `its update sequence has ${count} values at ${at}`)
  }
  const sequence = view.getUint16(at, true)
  for (let i = 1; i < count; i++) {
    const end = i * STRIDE - 2
    if (view.getUint16(end, true) !== sequence) {
      throw new BadStructure(what, offset, `sector ${i} of it is from another moment than the first`)
    }
    view.setUint16(end, view.getUint16(at + i * 2, true), true)
  }
}

/** Puts the update sequence in, in place, counting its number up as every write does. */
export function applyFixups(record: Uint8Array): void {
  const view = viewOf(record)
  const at = view.getUint16(4, true)
  const count = view.getUint16(6, true)
  let sequence = (view.getUint16(at, true) + 1) & 0xffff
  if (sequence === 0 || sequence === 0xffff) sequence = 1
  view.setUint16(at, sequence, true)
  for (let i = 1; i < count; i++) {
    const end = i * STRIDE - 2
    view.setUint16(at + i * 2, view.getUint16(end, true), true)
    view.setUint16(end, sequence, true)
  }
}
