import { checkRange } from './device'
import { BadStructure } from '../errors'
import { ReadOnlyWrapper } from './wrapped'

/** A volume that claims `size` bytes, more than there is of it. What lies behind the end is refused; for reading only. */
export class CutOffDevice extends ReadOnlyWrapper {
  override mapped = undefined

  override async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    if (offset + into.length > this.base.size) {
      throw new BadStructure('volume', offset, 'it lies behind the end of the partition')
    }
    await this.base.read(offset, into)
  }
}
