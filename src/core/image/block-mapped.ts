import { type BlockDevice, checkRange, type Extent, ReadOnlyDevice, UnreadableSectors } from '../block/device'
import type { ImageFile } from './port'

/** Where a stretch of a virtual disk comes from. */
export type Source =
  | { readonly from: 'zeros' }
  /** At a byte of the image file. */
  | { readonly from: 'file'; readonly offset: number }
  | { readonly from: 'parent' }
  /** Made by a function, for packed stretches: gives the whole unit's bytes. */
  | { readonly from: 'unit'; readonly unit: number; readonly read: () => Promise<Uint8Array> }

/** The next stretch from `offset` on, at most `length` bytes, all from one source. */
export type Locator = (offset: number, length: number) => Promise<{ length: number; source: Source }>

/** A virtual disk whose places are found through a table. For reading only. */
export class BlockMappedDevice implements BlockDevice {
  readonly physicalSectorSize: number
  private unit?: { number: number; bytes: Uint8Array }

  constructor(
    readonly size: number,
    readonly logicalSectorSize: 512 | 4096,
    private readonly parts: {
      readonly locate: Locator
      readonly read: (offset: number, into: Uint8Array) => Promise<void>
      readonly unitBytes: number
      readonly parent?: BlockDevice
      /** Which parts of the image file are not holes, where that is known. */
      readonly file?: ImageFile
    },
  ) {
    this.physicalSectorSize = 4096
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    let done = 0
    while (done < into.length) {
      const at = offset + done
      const { length, source } = await this.parts.locate(at, into.length - done)
      const part = into.subarray(done, done + length)
      switch (source.from) {
        case 'zeros':
          part.fill(0)
          break
        case 'file':
          await this.parts.read(source.offset, part).catch((error: unknown) => {
            if (!(error instanceof UnreadableSectors)) throw error
            // Places in the file are not those of the disk in it.
            const first = at / this.logicalSectorSize
            throw new UnreadableSectors(
              Array.from({ length: Math.ceil(length / this.logicalSectorSize) }, (_, i) => first + i),
            )
          })
          break
        case 'parent':
          await this.readParent(at, part)
          break
        case 'unit': {
          if (this.unit?.number !== source.unit) this.unit = { number: source.unit, bytes: await source.read() }
          const from = at - source.unit * this.parts.unitBytes
          part.set(this.unit.bytes.subarray(from, from + part.length))
        }
      }
      done += length
    }
  }

  /** Where a stretch lies in the image file, piece by piece; no place where the file holds nothing of it. */
  async *places(offset: number, length: number) {
    checkRange(this, offset, length)
    for (let at = offset; at < offset + length;) {
      const { length: stretch, source } = await this.parts.locate(at, offset + length - at)
      yield { at: at - offset, length: stretch, place: source.from === 'file' ? source.offset : undefined }
      at += stretch
    }
  }

  async write(): Promise<void> {
    throw new ReadOnlyDevice()
  }

  async flush(): Promise<void> {}

  async mapped(offset: number, length: number): Promise<readonly Extent[]> {
    const extents: { offset: number; length: number }[] = []
    const add = (at: number, bytes: number) => {
      const last = extents.at(-1)
      if (last && last.offset + last.length === at) last.length += bytes
      else extents.push({ offset: at, length: bytes })
    }
    for (let at = offset; at < offset + length;) {
      const { length: stretch, source } = await this.parts.locate(at, offset + length - at)
      if (source.from === 'parent') {
        const { parent } = this.parts
        const inParent = parent ? Math.max(0, Math.min(stretch, parent.size - at)) : 0
        if (parent && inParent > 0) {
          const below = parent.mapped ? await parent.mapped(at, inParent) : [{ offset: at, length: inParent }]
          for (const extent of below) add(extent.offset, extent.length)
        }
      } else if (source.from === 'file' && this.parts.file?.mapped) {
        // A hole in the image file is a stretch of zeros as well.
        const stored = await this.parts.file.mapped(source.offset, stretch)
        for (const extent of stored) add(at + extent.offset - source.offset, extent.length)
      } else if (source.from !== 'zeros') add(at, stretch)
      at += stretch
    }
    return extents
  }

  /** A parent may be smaller than its child; what lies beyond is zeros. */
  private async readParent(offset: number, into: Uint8Array): Promise<void> {
    const { parent } = this.parts
    const inParent = parent ? Math.max(0, Math.min(into.length, parent.size - offset)) : 0
    if (inParent > 0) await parent!.read(offset, into.subarray(0, inParent))
    into.fill(0, inParent)
  }
}
