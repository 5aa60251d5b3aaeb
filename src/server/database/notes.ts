import { provider } from '@/outside/provider'
import type { z } from 'zod'
import { formatSize } from '@/core/bytes/size'
import { fitSizes, type Layout } from '@/core/fit/types'
import type { FitResultSchema, ProofResultSchema, SurveyResultSchema } from './schemas'

// What the rail says of a station is stored beside what the station came to, so that a board of many moves need not
// read every survey.

export interface StationResults {
  readonly survey?: z.infer<typeof SurveyResultSchema> | null
  readonly fit?: z.infer<typeof FitResultSchema> | null
  readonly proof?: z.infer<typeof ProofResultSchema> | null
}

export interface StationNotes {
  readonly surveyNote?: string | null
  readonly fitNote?: string | null
  readonly proofNote?: string | null
}

/** The notes of those results that are given. */
export function notesOf(results: StationResults): StationNotes {
  const { survey, fit, proof } = results
  return {
    ...('survey' in results ? { surveyNote: survey?.confirmed ? surveyNote(survey) : null } : {}),
    ...('fit' in results ? { fitNote: fit && fitsLocked({ fit }) ? fitNote(fit.pairs[0]!.layout) : null } : {}),
    ...('proof' in results ? { proofNote: proof && hasStarted({ row: { proof } }) ? proofNote(proof) : null } : {}),
  }
}

/** True when every drive of a move has its locked fit. */
export function fitsLocked({ fit }: StationResults): boolean {
  return fit?.pairs.every((p) => p !== null) ?? false
}

/** The last trial started from the new drive, and every check passed. */
export function hasStarted({ row }: { readonly row: StationResults }): boolean {
  const last = row.proof?.trials.at(-1)
  const starts = provider().hasPower ? last?.trace.starts : last?.told?.starts
  return starts === true && last?.subject === 'target' && last.checks.every((c) => c.passed)
}

function surveyNote({ pairs }: NonNullable<StationResults['survey']>): string {
  const drives = pairs.reduce((n, p) => n + (p.target ? 2 : 1), 0)
  return `${drives} ${drives === 1 ? 'drive' : 'drives'} read`
}

function fitNote(layout: Layout): string {
  const { partitions } = layout
  const grown =
    partitions.find((p) => p.rule === 'fill') ?? partitions.find((p) => p.role === 'system') ?? partitions[0]
  const name = /\(([A-Z]:)\)$/.exec(grown.title)?.[1] ?? grown.title
  return `${name} to ${formatSize(fitSizes(grown, layout).after)}`
}

function proofNote({ trials }: NonNullable<StationResults['proof']>): string {
  const { trace, checks } = trials.at(-1)!
  const followed = trace.links.every((l) => l.state === 'passed') && checks.every((c) => (c.open ?? []).length === 0)
  return followed ? 'starts, all equal' : 'starts, as far as seen'
}
