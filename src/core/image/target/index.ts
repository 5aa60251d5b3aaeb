import { BLOCK_BYTES, MAX_BYTES } from '../vhd-layout'
import { fixedVhdTarget, dynamicVhdTarget } from './vhd'
import { rawTarget } from './flat'
import type { TargetMaker } from './port'
import { packedQcow2Target, qcow2ClusterBytes, qcow2Target } from './qcow2'
import { vhdxBlockBytes, vhdxTarget } from './vhdx'
import { grainBytes, MOST_VMDK_BYTES, sparseVmdkTarget, streamVmdkTarget } from './vmdk'

export interface TargetFormat {
  readonly name: string
  readonly extension: string
  readonly make: TargetMaker
  /** How much is taken at once where something is written, by the size of the disk; null where all of it has its place. */
  readonly blockBytes: ((virtualBytes: number) => number) | null
  /** The largest disk that it holds, where it ends before any drive does. */
  readonly mostBytes?: number
}

/** Every format that is written, by the name it has on the command line. */
export const TARGETS = {
  raw: { name: 'raw', extension: 'img', make: rawTarget, blockBytes: null },
  vhd: {
    name: 'VHD, dynamic',
    extension: 'vhd',
    make: dynamicVhdTarget,
    blockBytes: () => BLOCK_BYTES,
    mostBytes: MAX_BYTES,
  },
  'vhd-fixed': { name: 'VHD, fixed', extension: 'vhd', make: fixedVhdTarget, blockBytes: null, mostBytes: MAX_BYTES },
  vhdx: { name: 'VHDX', extension: 'vhdx', make: vhdxTarget, blockBytes: vhdxBlockBytes },
  qcow2: { name: 'QCOW2', extension: 'qcow2', make: qcow2Target, blockBytes: qcow2ClusterBytes },
  'qcow2-packed': { name: 'QCOW2, packed', extension: 'qcow2', make: packedQcow2Target, blockBytes: qcow2ClusterBytes },
  vmdk: {
    name: 'VMDK, sparse',
    extension: 'vmdk',
    make: sparseVmdkTarget,
    blockBytes: grainBytes,
    mostBytes: MOST_VMDK_BYTES,
  },
  'vmdk-stream': {
    name: 'VMDK, stream-optimised',
    extension: 'vmdk',
    make: streamVmdkTarget,
    blockBytes: grainBytes,
    mostBytes: MOST_VMDK_BYTES,
  },
} as const satisfies Record<string, TargetFormat>

export type TargetKind = keyof typeof TARGETS
export const TARGET_KINDS = Object.keys(TARGETS) as TargetKind[]
