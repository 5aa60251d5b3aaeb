import { type BlockDevice, checkRange, type Extent, type OwnDigests } from '@/core/block/device'
import type { Digest } from '@/core/digest'
import { FileDevice } from '@/core/image/raw'
import type { NbdFile } from './client'

/** What is lent for writing, as a device. */
export class LentDevice implements BlockDevice {
  readonly size: number
  readonly physicalSectorSize: number
  readonly mapped?: (offset: number, length: number) => Promise<readonly Extent[]>
  readonly digests?: OwnDigests
  private readonly reading: FileDevice

  constructor(
    private readonly file: NbdFile,
    readonly logicalSectorSize: 512 | 4096,
    /** BLAKE3, by which the other side is asked for digests. */
    digest?: Digest,
  ) {
    this.reading = new FileDevice(file, logicalSectorSize)
    this.size = this.reading.size
    this.physicalSectorSize = this.reading.physicalSectorSize
    if (this.reading.mapped) this.mapped = this.reading.mapped
    if (digest) this.digests = { by: digest, of: (offset, length) => file.digestOf(offset, length) }
  }

  read(offset: number, into: Uint8Array): Promise<void> {
    return this.reading.read(offset, into)
  }

  async write(offset: number, from: Uint8Array): Promise<void> {
    checkRange(this, offset, from.length)
    await this.file.write(offset, from)
  }

  flush(): Promise<void> {
    return this.file.flush()
  }

  /** The range reads as zeros afterwards, by whichever way the other side has. */
  async discard(offset: number, length: number): Promise<void> {
    checkRange(this, offset, length)
    if (await this.file.zero(offset, length)) return
    const zeros = new Uint8Array(Math.min(length, 1024 * 1024))
    for (let at = 0; at < length; at += zeros.length)
      await this.file.write(offset + at, zeros.subarray(0, Math.min(zeros.length, length - at)))
  }
}
