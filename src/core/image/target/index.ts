import { fixedVhdTarget, dynamicVhdTarget } from './vhd'
import { rawTarget } from './flat'
import type { TargetMaker } from './port'
import { packedQcow2Target, qcow2Target } from './qcow2'
import { vhdxTarget } from './vhdx'
import { sparseVmdkTarget, streamVmdkTarget } from './vmdk'

/** Every format that is written, by the name it has on the command line. */
export const TARGETS = {
  raw: { name: 'raw', extension: 'img', make: rawTarget },
  vhd: { name: 'VHD, dynamic', extension: 'vhd', make: dynamicVhdTarget },
  'vhd-fixed': { name: 'VHD, fixed', extension: 'vhd', make: fixedVhdTarget },
  vhdx: { name: 'VHDX', extension: 'vhdx', make: vhdxTarget },
  qcow2: { name: 'QCOW2', extension: 'qcow2', make: qcow2Target },
  'qcow2-packed': { name: 'QCOW2, packed', extension: 'qcow2', make: packedQcow2Target },
  vmdk: { name: 'VMDK, sparse', extension: 'vmdk', make: sparseVmdkTarget },
  'vmdk-stream': { name: 'VMDK, stream-optimised', extension: 'vmdk', make: streamVmdkTarget },
} as const satisfies Record<string, { name: string; extension: string; make: TargetMaker }>

export type TargetKind = keyof typeof TARGETS
export const TARGET_KINDS = Object.keys(TARGETS) as TargetKind[]
