import type { CopyChoices } from './choices'
import type { CopyProgress, CopySummary } from './progress'

export type CopyStatus = 'running' | 'paused' | 'done' | 'stopped' | 'failed' | 'interrupted'

/** A copy as the pages see it. */
export interface CopyView {
  readonly id: string
  /** Which leg of the move's plan it is, from 0. */
  readonly leg: number
  readonly status: CopyStatus
  /** Bench time in milliseconds. */
  readonly startedAt: number
  readonly endedAt: number | null
  /** For a copy that did not end: what happened, in a sentence. */
  readonly message: string | null
  readonly progress: CopyProgress | null
  /** What a running copy waits for before it goes on by itself, in a sentence. */
  readonly waitsFor: string | null
  readonly summary: CopySummary | null
  readonly choices: CopyChoices
  /** What is on its target can be gone on with. */
  readonly resumable: boolean
  /** It failed since its target does not give back what was written. */
  readonly verifyFailed: boolean
}
