import type { ImageSink, ImageWriter, WriterOptions } from './port'
import { packedQcow2Writer, qcow2Writer } from './qcow2-write'
import { rawWriter } from './raw-write'
import { dynamicVhdWriter, fixedVhdWriter } from './vhd-write'
import { vhdxWriter } from './vhdx-write'

/** Every format that is written, by the name it has on the command line. */
export const TARGETS = {
  raw: { name: 'raw', extension: 'img', writer: rawWriter },
  vhd: { name: 'VHD, dynamic', extension: 'vhd', writer: dynamicVhdWriter },
  'vhd-fixed': { name: 'VHD, fixed', extension: 'vhd', writer: fixedVhdWriter },
  vhdx: { name: 'VHDX', extension: 'vhdx', writer: vhdxWriter },
  qcow2: { name: 'QCOW2', extension: 'qcow2', writer: qcow2Writer },
  'qcow2-packed': { name: 'QCOW2, packed', extension: 'qcow2', writer: packedQcow2Writer },
} as const satisfies Record<
  string,
  { name: string; extension: string; writer: (sink: ImageSink, options: WriterOptions) => ImageWriter }
>

export type TargetKind = keyof typeof TARGETS
export const TARGET_KINDS = Object.keys(TARGETS) as TargetKind[]
