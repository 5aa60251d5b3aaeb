import type { BlockDevice, Extent } from '../block/device'
import { BadStructure } from '../errors'
import type { Finding } from '../findings'

/** The bytes of an image file, in any range. */
export interface ImageFile {
  readonly size: number
  /** Fills `into` from `offset`. Rejects with CoreError beyond the end. */
  read(offset: number, into: Uint8Array): Promise<void>
  /** The parts of a range that are not holes of the file, in order. Absent where the host can't tell. */
  mapped?(offset: number, length: number): Promise<readonly Extent[]>
}

/** Another image that one builds on. */
export interface ParentReference {
  /** Names to look for, the likeliest first, as the child writes them. */
  readonly names: readonly string[]
  /** What the parent must carry, where the child says so. */
  readonly identity?: string
  /** The parent's format, where the child says so. */
  readonly format?: ImageKind
}

/** Finds and opens the parent of an image. Rejects with CoreError when it is missing or may not be read. */
export type ParentOpener = (reference: ParentReference) => Promise<OpenedImage>

export type ImageKind = 'raw' | 'vhd' | 'vhdx' | 'qcow2' | 'vmdk'

/** An image as a device. It is for reading only. */
export interface OpenedImage {
  readonly kind: ImageKind
  /** The format as the trade writes it, with its variety: `VHD, dynamic`. */
  readonly name: string
  readonly virtualBytes: number
  readonly device: BlockDevice
  /** What children check of their parent. */
  readonly identity?: string
  /** The name of the image it builds on. */
  readonly parent?: string
  readonly findings: readonly Finding[]
  /** How a block that the file does not have yet is added to it. Absent where that takes more than one entry of its table. */
  readonly newBlock?: NewBlock
}

/** What adds a block to an image: room for it in the file, then this entry, which a disk writes whole or not at all. */
export interface NewBlock {
  readonly blockBytes: number
  /** The bytes of blocks begin in the file at multiples of this. */
  readonly alignBytes: number
  /** What stands in front of the bytes of a block; not shorter than the end of the file that it is written over. */
  readonly head: Uint8Array
  /** How much of the file's end stays its end, whatever is added. */
  readonly tailBytes: number
  /** The entry of the block at byte `offset` of the disk, once it lies at byte `place` of the file. */
  entry(offset: number, place: number): { readonly at: number; readonly bytes: Uint8Array }
}

export interface OpenOptions {
  /** For formats that do not say how long a sector is. */
  readonly sectorSize?: 512 | 4096
  readonly openParent: ParentOpener
}

/** One format of virtual disks. A new one is one more of these in the registry. */
export interface ImageFormat {
  readonly kind: ImageKind
  recognise(file: ImageFile): Promise<boolean>
  /** Rejects with BadStructure when its own structures are damaged. */
  open(file: ImageFile, options: OpenOptions): Promise<OpenedImage>
}

/** A range of an image file as new bytes. Throws BadStructure where the file ends before. */
export async function readFrom(file: ImageFile, offset: number, length: number, what: string): Promise<Uint8Array> {
  if (!Number.isSafeInteger(offset) || offset < 0 || offset + length > file.size) {
    throw new BadStructure(what, offset, `the file has ${file.size} bytes and ends before it`)
  }
  const bytes = new Uint8Array(length)
  await file.read(offset, bytes)
  return bytes
}
