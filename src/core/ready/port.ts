import type { Judgement } from '../boot/signature'
import type { CopyChoices } from '../copy/choices'
import type { InstalledDriver } from '../drivers/installed'
import type { Health } from '../health/health'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import type { Program } from '../things/computer'
import type { KernelState } from '../things/drive'
import type { LinkId } from '../things/links'

/** Everything the list is computed from. Times are already in words. */
export interface ReadyFacts {
  readonly source: DriveSurvey
  /** What is on the drive that is written; absent where it is made anew, as a virtual disk or an image is. */
  readonly target?: DriveSurvey
  /** Of one volume that goes into a drive which keeps everything else. */
  readonly into?: {
    readonly partition: number
    readonly title: string
    /** What would be lost of it, as the end of a sentence; absent where it is empty. */
    readonly holds?: string
  }
  readonly sourceName: string
  readonly targetName: string
  /** The computer that copies; undefined when a computer of the shop does. */
  readonly computer?: {
    readonly name: string
    readonly running: 'off' | 'system' | 'stick'
    /** Key that opens its boot menu. */
    readonly bootMenuKey: string
    readonly hasBattery: boolean
    readonly mains: boolean
    readonly batteryPercent: number | null
    readonly secureBoot: boolean
    readonly programs: readonly Program[]
    readonly sleepMinutes: number | null
    readonly online: boolean
  }
  /** The computer that the system lives on, with its fixed addresses in the network. */
  readonly home: { readonly name: string; readonly addresses: readonly string[] }
  /** The system runs while it is copied. */
  readonly live: boolean
  /** Bytes go from the computer that copies to a host over the network. */
  readonly overNetwork?: boolean
  /** Where the system will live, where that is another place than now. */
  readonly goal?: ReadyGoal
  /** The computer that is to start from what this leg writes, and the kind of table that it gets; absent of any other leg. */
  readonly startsIn?: { readonly name: string; readonly mode: 'uefi' | 'bios'; readonly table: 'gpt' | 'mbr' }
  /** Links of the adapters that a drive of this leg hangs at. */
  readonly adapters: readonly { readonly name: string; readonly link: LinkId; readonly seconds: number }[]
  /** Why this version cannot carry the way out, in a sentence. */
  readonly notYet?: string
  /** Only a person can tell it is slow or hot: what the source reports of itself. */
  readonly sourceHealth?: Health
  readonly choices: CopyChoices
  /** Further drives that are written in the same reading. */
  readonly further: readonly FurtherTarget[]
  /** What a person settled, by item. */
  readonly acknowledged: Readonly<Record<string, Acknowledgement>>
  /** The computer of the shop that copies. */
  readonly hostName?: string
  readonly stickName: string
  /** Bytes of real data that the target's file will take on this host, null where it has none; and what is free there. */
  readonly hostNeededBytes: number | null
  readonly hostFreeBytes: number
  readonly backup?: { readonly where: string; readonly date: string }
  /** The source is that of a series, which is kept and only read. */
  readonly ofSeries?: boolean
  readonly sourceUnchanged: boolean
  readonly targetUnchanged: boolean
  /** An earlier leg wrote the source, and it is as that left it. */
  readonly sourceWritten?: boolean
  /** The target carries the mark of an unfinished copy of this move, which erased it. */
  readonly targetMarked?: boolean
  readonly targetConnected: boolean
  /** Undefined where no drive is read, but an image of it. */
  readonly sourceConnected: boolean | undefined
  /** Hands have something to do before this leg. */
  readonly handsFirst: boolean
  /** Drives that the plan has elsewhere for this copy. */
  readonly elsewhere: readonly string[]
  /** Drives of this copy that other benches lend, with what the connections carry. */
  readonly lent: readonly { readonly name: string; readonly bench: string; readonly bytesPerSecond: number | null }[]
  /** Drives of this computer among them, as they are plugged in. */
  readonly seen: readonly (Pick<KernelState, 'uses' | 'serialOf' | 'hasTwin'> & {
    readonly id: string
    readonly name: string
    readonly path: string
    readonly isWritten: boolean
  })[]
  /** The drives sit where the plan has them for this leg. */
  readonly routeHolds: boolean
  readonly surveyedAt: string
  /** The maps of used blocks are being held against the files: what is looked at now. */
  readonly mapCheckProgress?: { readonly title: string; readonly files: number }
  /** Partitions of the source, by number, whose volumes the locked fit makes larger or smaller. */
  readonly resized: readonly number[]
  /** Partitions of the source that the locked fit leaves behind. */
  readonly leftOut: readonly Pick<PartitionSurvey, 'title' | 'role'>[]
}

/** A place where the system never was. */
export type ReadyGoal =
  | {
      readonly kind: 'virtual-machine'
      readonly hostName: string
      /** Why it is proposed as it is, and what keeps it from starting; a sentence each. */
      readonly reasons: readonly string[]
      readonly obstacles: readonly string[]
    }
  | {
      readonly kind: 'other-computer'
      readonly name: string
      /** Service names of the drivers that serve the controller its drive will sit at. */
      readonly drivers: readonly string[]
      /** What the system has of them; undefined where its settings cannot be read. */
      readonly installed?: readonly InstalledDriver[]
      /** One of them in the stick's driver folder. */
      readonly atHand?: DriverAtHand
      /** Of its network card, where it is known what that needs. */
      readonly network?: {
        readonly drivers: readonly string[]
        readonly deviceId?: string
        readonly installed?: readonly InstalledDriver[]
        readonly atHand?: DriverAtHand
      }
      /** How its firmware starts, and the kind of table that the old drive has. */
      readonly firmware?: { readonly mode: 'uefi' | 'bios'; readonly scheme: 'gpt' | 'mbr' }
      /** What its Secure Boot will make of the system's loader; absent where it does not ask, or there is none. */
      readonly loader?: { readonly path: string; readonly judgement: Judgement }
    }

/** A driver in the stick's driver folder. */
export interface DriverAtHand {
  readonly service: string
  readonly name: string
  readonly folder: string
}

export interface FurtherTarget {
  readonly id: string
  readonly name: string
  readonly connected: boolean
  readonly sameSize: boolean
  /** Who else has it, in a sentence. */
  readonly taken: string | null
  /** What is on it, in words. */
  readonly holds: string
}

/** What a person said of an item. */
export interface Acknowledgement {
  /** When, in words. */
  readonly at: string
  /** The item's title when it was said; of another one it was not said. */
  readonly title?: string
  /** Why it may start all the same. */
  readonly reason?: string
}

/** One thing that has to be true before a copy may start. */
export interface ReadyItem {
  readonly id: string
  readonly title: string
  /** Why it is on the list. */
  readonly why: string
  /** What to do, while it is not settled. */
  readonly how?: string
  readonly state: 'settled' | 'open' | 'blocks'
  /** How it is known: `read 09:12`, `seen now`, `told 09:05`. */
  readonly known: string
  readonly action?: {
    readonly id:
      | 'start-stick'
      | 'start-system'
      | 'plug-in'
      | 'look-again'
      | 'waive-backup'
      | 'go-to-swap'
      | 'close-program'
      | 'go-offline'
      | 'no-sleep'
      | 'skip-page-files'
      | 'copy-page-files'
      | 'take-every'
      | 'check-maps'
      | 'skip-map-check'
      | 'reset-later'
    readonly label: string
    /** What of several it is about. */
    readonly of?: string
  }
  /** What going on all the same would mean; absent where that cannot be sane. */
  readonly overridable?: string
  /** The reason that a person gave for going on all the same. */
  readonly overridden?: string
}

/**
 * One kind of thing that has to be true before a copy may start: the items it comes to for these facts, none where it
 * does not matter to this move. A new kind is a new file beside the others and a line in their list.
 */
export type ReadyKind = (facts: ReadyFacts) => readonly ReadyItem[]

/** One that follows from where the system goes alone, and can be told before a route is taken. */
export type NeedKind = (facts: Pick<ReadyFacts, 'goal'>) => readonly ReadyItem[]
