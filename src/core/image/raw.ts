import { type BlockDevice, checkRange, type Extent, ReadOnlyDevice, UnreadableSectors } from '../block/device'
import { BadStructure } from '../errors'
import type { Finding } from '../findings'
import type { ImageFile, ImageFormat } from './port'
import { withSectors } from './sectors'

/** The bytes of a disk as they are. */
export const raw: ImageFormat = {
  kind: 'raw',
  // Whatever no other format claims.
  recognise: async () => true,
  async open(file, { sectorSize }) {
    if (file.size < 512) throw new BadStructure('image', 0, `it has ${file.size} bytes, less than a sector`)
    const device = await withSectors((size) => new FileDevice(file, size), sectorSize)
    const rest = file.size - device.size
    const findings: Finding[] = []
    if (rest > 0) {
      findings.push({
        severity: 'caution',
        code: 'image.ragged',
        sentence: 'The file does not end with a whole sector; it may have been cut short.',
        evidence: `${rest} bytes behind the last whole sector of ${device.logicalSectorSize}`,
      })
    }
    return { kind: 'raw', name: 'raw', virtualBytes: device.size, device, findings }
  },
}

/** A file whose bytes are a disk's. For reading only. */
export class FileDevice implements BlockDevice {
  readonly size: number
  readonly physicalSectorSize = 4096
  readonly mapped?: (offset: number, length: number) => Promise<readonly Extent[]>

  constructor(
    private readonly file: ImageFile,
    readonly logicalSectorSize: 512 | 4096,
  ) {
    this.size = Math.floor(file.size / logicalSectorSize) * logicalSectorSize
    if (file.mapped) this.mapped = (offset, length) => file.mapped!(offset, length)
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    try {
      await this.file.read(offset, into)
    } catch (error) {
      if (!(error instanceof UnreadableSectors)) throw error
      // A file tells what it does not give in sectors of 512 bytes.
      const perSector = this.logicalSectorSize / 512
      throw new UnreadableSectors([...new Set(error.sectors.map((sector) => Math.floor(sector / perSector)))])
    }
  }

  async write(): Promise<void> {
    throw new ReadOnlyDevice()
  }

  async flush(): Promise<void> {}
}
