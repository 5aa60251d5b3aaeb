import type { DriveBytes } from '@/bench/open-drive'
import type { Layout } from '@/core/fit/types'
import type { LegTiming } from '@/core/route/types'
import type { Pace } from '../clock'
import type { CopyProgress, CopySummary } from '@/core/copy/progress'

/** A drive as the worker opens it. */
export interface WorkerDrive extends DriveBytes {
  readonly id: string
}

/** What a copy worker is started with. */
export interface CopyOrder {
  readonly source: WorkerDrive
  readonly target: WorkerDrive
  readonly layout: Layout
  readonly timing: LegTiming
  readonly note: string
  readonly pace: Pace
  /** Fingerprint that the target must still have when the worker opens it. */
  readonly targetFingerprint: string
  readonly sourceFingerprint: string
}

/** Told to a running worker. */
export type ToWorker =
  | { readonly type: 'pause' | 'resume' | 'stop' }
  | { readonly type: 'pace'; readonly pace: Pace }
  | { readonly type: 'gone'; readonly driveId: string; readonly what: string }

/** A line for the logbook. */
export interface WorkerNote {
  readonly type: 'note'
  readonly text: string
  readonly tone: 'plain' | 'good' | 'bad'
}

/** What a worker reports. `benchMilliseconds` is what passed in the model since the last report. */
export type FromWorker =
  | { readonly type: 'progress'; readonly progress: CopyProgress; readonly benchMilliseconds: number }
  | WorkerNote
  | { readonly type: 'done'; readonly summary: CopySummary }
  | { readonly type: 'stopped' }
  | { readonly type: 'failed'; readonly message: string }
