import type { Health } from '@/core/health/health'
import type { DriveUse } from '@/core/move/drive-use'
import type { Accessory, AccessoryModel } from '@/core/things/accessory'
import type { Computer } from '@/core/things/computer'
import type { Drive, LentBy, Place, PluggedIn } from '@/core/things/drive'

export interface DriveView {
  readonly id: string
  readonly name: string
  readonly serial: string
  readonly detail: string
  readonly form: string
  readonly protocol: string
  readonly hasBytes: boolean
  readonly image: string | null
  readonly encrypted: boolean
  readonly purpose: 'customer' | 'transfer'
  /** Sectors that do not read. */
  readonly unreadable: number
  readonly health?: Health
  readonly sizeBytes: number
  readonly logicalSectorSize: number
  readonly physicalSectorSize: number
  /** The bench that lends it over the network, and how the connection stands. */
  readonly lentBy: LentBy | null
  /** Of a drive of this computer. */
  readonly pluggedIn: PluggedIn | null
}

export interface BerthView {
  readonly key: string
  readonly place: Place
  readonly name: string
  readonly takes: string
  readonly drive: DriveView | null
}

export interface QuayView {
  readonly id: string
  readonly name: string
  readonly detail: string
  readonly berths: readonly BerthView[]
}

export interface AdapterView extends QuayView {
  /** A port of this computer, which is there as long as something is plugged into it. */
  readonly isSeen: boolean
}

export interface ComputerView extends QuayView {
  readonly state: string
  readonly mains: boolean
  readonly isVirtual: boolean
  /** Imbarco runs on it. */
  readonly isThis: boolean
  readonly sockets: string
}

export interface BenchProps {
  readonly name: string
  /** Its drives are those that are plugged into this computer. */
  readonly isSeen: boolean
  /** What is looked for, and how much of the bench is not shown. */
  readonly find: string
  readonly hidden: { readonly quays: number; readonly loose: number }
  /** Ids of things whose description is damaged. */
  readonly unreadable: readonly string[]
  readonly totals: { readonly drives: number; readonly connected: number; readonly failing: number }
  readonly benches: readonly { readonly id: string; readonly name: string; readonly active: boolean }[]
  readonly computers: readonly ComputerView[]
  readonly accessories: readonly AdapterView[]
  readonly farBenches: readonly {
    readonly id: string
    readonly name: string
    readonly detail: string
    /** Computers there, whose slots are quays of their own. */
    readonly computers: readonly string[]
    readonly drives: readonly DriveView[]
  }[]
  readonly others: readonly {
    readonly id: string
    readonly name: string
    readonly detail: string
    readonly facts: readonly string[]
    /** It comes and goes as it is plugged in. */
    readonly isSeen: boolean
  }[]
  readonly table: readonly DriveView[]
  readonly shelf: readonly DriveView[]
  /** Moves that a drive is part of. */
  readonly uses: Readonly<Record<string, readonly DriveUse[]>>
  readonly things: {
    readonly computers: readonly Computer[]
    readonly accessories: readonly Accessory[]
    readonly drives: readonly Drive[]
  }
  readonly models: {
    readonly computers: Readonly<Record<string, Omit<Computer, 'id' | 'name'>>>
    readonly accessories: Readonly<Record<string, AccessoryModel>>
    readonly drives: Readonly<Record<string, { readonly label: string; readonly model: string }>>
  }
  readonly images: readonly string[]
}
