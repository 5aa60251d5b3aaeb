import type { BlockDevice } from '../block/device'
import type { Candidate } from '../boot/start'
import type { Firmware } from '../boot/types'
import type { WantedDriver } from '../drivers/device'
import type { DriverFolder } from '../drivers/packages'
import type { FixedAddress } from '../registry/addresses'
import type { BootCode } from '../survey/boot-code'
import type { MovedVolume } from './moved'

/** Bytes of a drive that a repair changes. */
export interface Patch {
  readonly offset: number
  readonly before: Uint8Array
  readonly after: Uint8Array
}

/** What a repair would do, worked out without writing anything. */
export interface RepairPlan {
  readonly name: string
  readonly title: string
  /** What it changes, one sentence each. */
  readonly changes: readonly string[]
  readonly patches: readonly Patch[]
  /** The computer's firmware as it would be, for a repair of what is kept there. */
  readonly firmware?: Firmware
  /** The partition that it makes larger. */
  readonly grows?: { readonly partition: number; readonly sizeBytes: number }
  /** What whoever uses the computer has to know of it, one sentence each. */
  readonly know?: readonly string[]
  /** Files that then differ from those of the source, with the number of their partition. */
  readonly files?: readonly { readonly path: string; readonly partition: number }[]
}

/** A drive in a computer, as the firmware meets it. */
export interface DriveSeat {
  readonly slot: string
  /** Model and capacity, as on its plate. */
  readonly name: string
  /** The GUIDs of the partitions on the other drives in the computer. */
  readonly beside: readonly string[]
}

/** The drive to be repaired and what it is to start by. */
export interface RepairSubject {
  readonly candidate: Candidate
  readonly device: BlockDevice
  readonly mode: Firmware['mode']
  /** The partition of the system that is meant, where there are several. */
  readonly system?: number
  /** Drivers that serve the controller the drive sits at. */
  readonly drivers?: readonly string[]
  /** What that controller says that it is, where that is known. */
  readonly controllerId?: string
  /** The network cards of the computer of which it is known what serves them. */
  readonly cards?: readonly (WantedDriver & { readonly name: string })[]
  /** The folder of drivers that is at hand; absent where there is none. */
  readonly driverFolder?: DriverFolder
  /** The firmware of the computer that is to start, where there is one at hand. */
  readonly firmware?: Firmware
  /** Where the drive sits in that computer, and what else is in it. */
  readonly seat?: DriveSeat
  /** The code in front of the first partition, as the source had it. */
  readonly startCode?: BootCode
  /** Volumes that came along from the old drives, where that is known. */
  readonly moved?: readonly MovedVolume[]
  /** Sixteen bytes by chance, for an identity of its own. */
  readonly chance?: Uint8Array
  /** The fixed address that the old network card had, and the interface of the new one. */
  readonly card?: { readonly address: FixedAddress; readonly interfaceId: string }
  /** FILETIME that changed structures get. */
  readonly time: bigint
}

/** One repair; a new one is one more of these in the registry. */
export interface RepairKind {
  readonly name: string
  readonly title: string
  /** Rejects with CoreError where it cannot be done, which says why. No patches mean that nothing is wrong. */
  plan(subject: RepairSubject): Promise<Omit<RepairPlan, 'name' | 'title'>>
}
