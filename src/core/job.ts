import type { JobResult } from './image/views'

/** All that takes longer than a moment, besides copies, which have records of their own. */
export const JOB_KINDS = [
  'measure',
  'map-check',
  'survey',
  'make-room',
  'trial',
  'repair',
  'undo-repair',
  'erase',
  'convert',
  'capture',
  'compare',
  'verify',
  'compact',
  'emulate',
] as const
export type JobKind = (typeof JOB_KINDS)[number]

/** Those that change nothing that others rest on; the move may go on meanwhile. */
export const BACKGROUND_JOBS: readonly JobKind[] = ['map-check']

/** `interrupted`: the server ended in the middle of it. */
export const JOB_STATES = ['running', 'done', 'failed', 'stopped', 'interrupted'] as const
export type JobState = (typeof JOB_STATES)[number]

/** A job as the pages see it. */
export interface JobView {
  readonly id: string
  readonly kind: JobKind
  /** What it does, as the start of "is running": `Start of the ticket desk`. */
  readonly title: string
  /** The move that it is part of, if it is of one. */
  readonly moveId: string | null
  readonly state: JobState
  /** How far it is; bytes where it moves bytes. */
  readonly done: number
  /** 0 while it is not known. */
  readonly total: number
  /** What it is at, at the moment. */
  readonly about: string | null
  readonly stoppable: boolean
  /** Why it did not come to its end, in a sentence. */
  readonly message: string | null
  /** Of work on images. */
  readonly result: JobResult | null
}
