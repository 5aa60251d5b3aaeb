import { NotSupported } from '../errors'
import {
  type ImageFile,
  type ImageFormat,
  type ImageKind,
  type ImageSink,
  type ImageWriter,
  type OpenedImage,
  type OpenOptions,
  readFrom,
  type WriterOptions,
} from './port'
import { qcow2 } from './qcow2'
import { qcow2Writer } from './qcow2-write'
import { raw, rawWriter } from './raw'
import { vhd } from './vhd'
import { dynamicVhdWriter, fixedVhdWriter } from './vhd-write'
import { vhdx } from './vhdx'
import { vhdxWriter } from './vhdx-write'

export type { ImageFile, ImageKind, ImageSink, ImageWriter, OpenedImage, ParentOpener, WriterOptions } from './port'

/** Every format that is read; a new one is one line here. Raw claims whatever no other does. */
const FORMATS: readonly ImageFormat[] = [qcow2, vhdx, vhd, raw]

/** Every format that is written, by the name it has on the command line. */
export const TARGETS = {
  raw: { name: 'raw', extension: 'img', writer: rawWriter },
  vhd: { name: 'VHD, dynamic', extension: 'vhd', writer: dynamicVhdWriter },
  'vhd-fixed': { name: 'VHD, fixed', extension: 'vhd', writer: fixedVhdWriter },
  vhdx: { name: 'VHDX', extension: 'vhdx', writer: vhdxWriter },
  qcow2: { name: 'QCOW2', extension: 'qcow2', writer: qcow2Writer },
} as const satisfies Record<
  string,
  { name: string; extension: string; writer: (sink: ImageSink, options: WriterOptions) => ImageWriter }
>

export type TargetKind = keyof typeof TARGETS
export const TARGET_KINDS = Object.keys(TARGETS) as TargetKind[]

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
