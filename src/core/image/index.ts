import { NotSupported } from '../errors'
import { type ImageFile, type ImageFormat, type ImageKind, type OpenedImage, type OpenOptions, readFrom } from './port'
import { qcow2 } from './qcow2'
import { raw } from './raw'
import { vhd } from './vhd'
import { vhdx } from './vhdx'
import { vmdk } from './vmdk'

export type { ImageFile, ImageKind, OpenedImage, ParentOpener } from './port'
export type { TargetOptions } from './target/port'

export { TARGET_KINDS, type TargetFormat, type TargetKind, TARGETS } from './target'

/** Every format that is read; a new one is one line here. Raw claims whatever no other does. */
const FORMATS: readonly ImageFormat[] = [qcow2, vhdx, vmdk, vhd, raw]

/** How a stream is packed as a whole, by its first bytes; undefined where it is not. */
export type Packing = 'gzip' | 'zstd'

/** The packing of a file that has to be unpacked before it is an image. */
export async function packingOf(file: ImageFile): Promise<Packing | undefined> {
  if (file.size < 4) return undefined
  const head = await readFrom(file, 0, 4, 'image')
  if (head[0] === 0x1f && head[1] === 0x8b && head[2] === 8) return 'gzip'
  if (head[0] === 0x28 && head[1] === 0xb5 && head[2] === 0x2f && head[3] === 0xfd) return 'zstd'
  return undefined
}

/**
 * Opens an image of whichever format, or of the one asked for. Rejects with BadStructure when its structures are
 * damaged, and with NotSupported for one that has to be unpacked first.
 */
export async function openImage(file: ImageFile, options: OpenOptions, kind?: ImageKind): Promise<OpenedImage> {
  const packing = await packingOf(file)
  if (packing && kind === undefined) {
    throw new NotSupported(
      `This file is packed with ${packing}. Convert it into an image first; that reads it in one pass.`,
    )
  }
  for (const format of FORMATS) {
    if (kind ? format.kind === kind : await format.recognise(file)) return format.open(file, options)
  }
  throw new NotSupported('This file is no image that is known here.')
}
