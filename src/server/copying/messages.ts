import type { MediumBytes } from '@/outside/open-medium'
import type { Extent } from '@/core/block/device'
import type { CopyChoices } from '@/core/copy/choices'
import type { HeatModel } from '@/core/copy/heat'
import type { CopyProgress, CopySummary, Lost } from '@/core/copy/progress'
import type { Recheck } from '@/core/copy/source-binding'
import type { Layout } from '@/core/fit/types'
import type { Pace, Provider } from '@/core/outside/port'
import type { VolumeSamples } from '@/core/proof/samples'
import type { MovedVolume } from '@/core/repair/moved'
import type { RepairPlan } from '@/core/repair/port'
import type { LegTiming } from '@/core/route/types'
import type { MadeOf } from '@/host/write-image'

/** A medium as the worker opens it. */
export type WorkerMedium = MediumBytes & {
  /** Of the drive that has to stay where it is: the medium itself, or what an image lies on. */
  readonly id: string
  readonly title: string
  /** Fingerprint that it must still have when the worker opens it; absent where its mark or its journal tells. */
  readonly fingerprint?: string
}

export interface Together {
  readonly window: SharedArrayBuffer
  readonly member: number
}

/** What a copy worker is started with. */
export interface CopyOrder extends CopyPart {
  /** A whole copy, or one more pass over what an earlier one lost. */
  readonly task: { readonly kind: 'copy' } | { readonly kind: 'retry'; readonly lost: readonly Lost[] }
  readonly choices: CopyChoices
  /** The world that its drives are of. */
  readonly world: Provider['id']
  readonly pace: Pace
  /** Takes up the journal; `progress` is what was last seen of the copy. */
  readonly resume?: { readonly progress: CopyProgress | null; readonly recheck?: Recheck }
  /** Memory through which several copies of one source read it once, and which of them this is. */
  readonly together?: Together
  /** Further drives of the computer that runs, which are copied after this one as they were at the same moment. */
  readonly rest?: readonly CopyPart[]
}

/** One drive with what it is copied to. */
export interface CopyPart {
  /** Names the copy in its journal and on its targets. */
  readonly job: string
  readonly source: WorkerMedium
  /** The leg's target first, then further ones. */
  readonly targets: readonly WorkerMedium[]
  /** Of a target that is an image: what its record tells. */
  readonly made?: MadeOf
  readonly layout: Layout
  /** Where it reads the move's own drive: the fit that the drive's files are chosen by, to be compared in Proof. */
  readonly sampledBy?: Layout
  readonly timing: LegTiming
  readonly note: string
  readonly journal: string
  /** An earlier copy of this leg came to its end: an image that it made is written anew. */
  readonly again?: boolean
  readonly heat?: HeatModel
  /** Of one volume that goes into a drive which keeps everything else. */
  readonly put?: {
    /** Where what is kept of its new entry, and of that entry's type, goes: the same for every copy of this leg. */
    readonly entryFile: string
    readonly tableFile: string
    /** What would take room back that was made for it, which ends with the copy. */
    readonly roomFile: string
  }
  /** What it has to be changed in to start where other systems are. */
  readonly starts?: {
    /** The partitions whose systems are to start. */
    readonly systems: readonly number[]
    /** Every volume under its old name and its new one; absent where one came beside those that are there. */
    readonly moved?: readonly MovedVolume[]
    /** FILETIME that changed boot settings get. */
    readonly time: bigint
    /** Where what is kept of the changes goes, in order. */
    readonly repairs: readonly { readonly id: string; readonly file: string }[]
  }
  /** The source is in a computer whose own system runs. */
  readonly live?: {
    /** The volume that its programs write to most. */
    readonly volume: Extent
    /** Where what a snapshot keeps is put. */
    readonly snapshotFile: string
    /** The EFI system partitions, which no snapshot can hold. */
    readonly direct: readonly Extent[]
    readonly programs: readonly string[]
  }
}

/** Told to a running worker. */
export type ToWorker =
  | { readonly type: 'pause' | 'resume' | 'stop' }
  | { readonly type: 'pace'; readonly pace: Pace }
  | { readonly type: 'gone'; readonly driveId: string; readonly what: string }

/** How a system is started from now on where others are, by changes that can be taken back. */
export interface LetStarted {
  readonly made: readonly Pick<RepairPlan, 'name' | 'title' | 'changes' | 'files' | 'know'>[]
  /** Why it is not, in a sentence. */
  readonly problem: string | null
}

/** A line for the logbook. */
export interface WorkerNote {
  readonly type: 'note'
  readonly text: string
  readonly tone: 'plain' | 'good' | 'bad'
}

/** What a worker reports. `benchMilliseconds` is what passed in the model since the last report. */
export type FromWorker =
  | { readonly type: 'progress'; readonly progress: CopyProgress; readonly benchMilliseconds: number }
  /** It waits for something, said in a sentence; with null it goes on. */
  | { readonly type: 'waits'; readonly why: string | null }
  | WorkerNote
  | {
      readonly type: 'done'
      readonly summary: CopySummary
      readonly samples: VolumeSamples[] | null
      readonly started?: LetStarted
    }
  | {
      readonly type: 'retried'
      readonly wonBytes: number
      readonly lost: Lost[]
      readonly targetFingerprint: string
      readonly samples: VolumeSamples[] | null
    }
  | { readonly type: 'stopped' }
  /** `resumable`: what is on the target can be gone on with. `verifyFailed`: it did not read back equal. */
  | { readonly type: 'failed'; readonly message: string; readonly resumable: boolean; readonly verifyFailed?: boolean }
