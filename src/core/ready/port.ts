import type { DriveSurvey, PartitionSurvey } from '../survey/types'

/** Everything the list is computed from. Times are already in words. */
export interface ReadyFacts {
  readonly source: DriveSurvey
  readonly target: DriveSurvey
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
  }
  /** The computer of the shop that copies. */
  readonly hostName?: string
  readonly stickName: string
  /** Bytes of real data that the target's file will take on this host, and what is free there. */
  readonly hostNeededBytes: number
  readonly hostFreeBytes: number
  readonly backup?: { readonly where: string; readonly date: string }
  readonly backupWaived: boolean
  readonly sourceUnchanged: boolean
  readonly targetUnchanged: boolean
  readonly targetConnected: boolean
  readonly sourceConnected: boolean
  /** Hands have something to do before this leg. */
  readonly handsFirst: boolean
  /** The drives sit where the plan has them for this leg. */
  readonly routeHolds: boolean
  readonly surveyedAt: string
  /** Partitions of the source that the locked fit leaves behind. */
  readonly leftOut: readonly Pick<PartitionSurvey, 'title' | 'role'>[]
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
    readonly id: 'start-stick' | 'plug-in' | 'look-again' | 'waive-backup' | 'go-to-swap'
    readonly label: string
  }
}

/**
 * One kind of thing that has to be true before a copy may start: the items it comes to for these facts, none where it
 * does not matter to this move. A new kind is a new file beside the others and a line in their list.
 */
export type ReadyKind = (facts: ReadyFacts) => readonly ReadyItem[]
