import type { Firmware } from '../boot/types'

/** What is known of a move before anything is read. */
export interface MoveFacts {
  readonly firmwareMode: Firmware['mode']
  readonly sourceDrives: readonly {
    readonly name: string
    readonly sizeBytes: number
    readonly hasBytes: boolean
    readonly encrypted: boolean
  }[]
  readonly target?: {
    readonly name: string
    readonly sizeBytes: number
    readonly hasBytes: boolean
    readonly adapter: boolean
  }
  readonly toVirtualMachine: boolean
  readonly toOtherComputer: boolean
}

/** Why a move cannot be carried out by this version, or undefined when it can. One sentence. */
export function whyNotYet(facts: MoveFacts): string | undefined {
  const source = facts.sourceDrives[0]
  if (facts.toVirtualMachine) return 'Writing a virtual machine’s disk is not possible yet.'
  if (facts.sourceDrives.length !== 1) return 'Moving a system that spans several drives is not possible yet.'
  if (facts.firmwareMode === 'bios') return 'It starts by BIOS and MBR; only UEFI and GPT can be moved yet.'
  if (facts.toOtherComputer) return 'Moving to a computer with another storage controller is not possible yet.'
  if (source.encrypted) return 'Its system volume is encrypted, which cannot be moved yet.'
  if (facts.target && !facts.target.adapter)
    return 'No adapter on the bench takes its drives, and two legs are not possible yet.'
  if (facts.target && facts.target.sizeBytes < source.sizeBytes)
    return 'The target is smaller, and shrinking is not possible yet.'
  if (!facts.target) return 'It has no target drive yet.'
  if (!source.hasBytes || !facts.target.hasBytes)
    return 'Its drives are only described here; there are no bytes to read.'
  return undefined
}
