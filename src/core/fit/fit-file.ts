import * as z from 'zod'
import { readJsonFile } from '../json-file'
import type { DriveSurvey } from '../survey/types'
import { movedPartitions } from './ends'
import { FitWishSchema, LayoutSchema } from './types'

/** A fit as JSON: what was asked, and what came of it. Only what was asked is taken from a file. */
export const FitFileSchema = z.object({
  $schema: z.string().optional(),
  format: z.literal('imbarco fit'),
  version: z.literal(1),
  /** The drive that was laid out: to see whether a file is for this one. */
  source: z.object({
    name: z.string().max(120),
    sizeBytes: z.number().positive(),
    partitions: z.array(z.object({ number: z.number().int().min(0), title: z.string().max(120) })).max(1024),
  }),
  wish: FitWishSchema,
  layout: LayoutSchema.optional(),
})
export type FitFile = z.infer<typeof FitFileSchema>

/**
 * Reads a fit file for a source. Throws JsonFileError with the place of the first thing wrong, such as a rule for a
 * partition that the source does not have.
 */
export function readFitFile(text: string, source: DriveSurvey): FitFile {
  const numbers = new Set(movedPartitions(source).map((p) => String(p.number)))
  return readJsonFile(text, FitFileSchema, ({ wish }) => {
    for (const list of ['rules', 'sizes'] as const) {
      const stray = Object.keys(wish[list]).find((number) => !numbers.has(number))
      if (stray) return { path: ['wish', list, stray], what: `this drive has no partition ${stray}` }
    }
    for (const list of ['order', 'leaveOut'] as const) {
      const at = (wish[list] ?? []).findIndex((number) => !numbers.has(String(number)))
      if (at >= 0) return { path: ['wish', list, at], what: `this drive has no partition ${wish[list]![at]}` }
    }
    const unset = Object.entries(wish.rules).find(([number, rule]) => rule === 'set' && !wish.sizes[number])
    return unset && { path: ['wish', 'rules', unset[0]], what: 'it has no size to be set to' }
  })
}
