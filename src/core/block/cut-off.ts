import { type BlockDevice, checkRange, ReadOnlyDevice } from './device'
import { BadStructure } from '../errors'

/** A volume that claims more than there is of it. What lies behind the end is refused; for reading only. */
export class CutOffDevice implements BlockDevice {
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number

  constructor(
    private readonly base: BlockDevice,
    readonly size: number,
  ) {
    this.logicalSectorSize = base.logicalSectorSize
    this.physicalSectorSize = base.physicalSectorSize
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    if (offset + into.length > this.base.size) {
      throw new BadStructure('volume', offset, 'it lies behind the end of the partition')
    }
    await this.base.read(offset, into)
  }

  async write(): Promise<void> {
    throw new ReadOnlyDevice()
  }

  async flush(): Promise<void> {}
}
