import * as z from 'zod'
import { readJsonFile } from '../json-file'
import { LostSchema } from './progress'

/** Sectors that a copy lost, as they are saved to be taken up again. Sectors are those of the drives they are on. */
export const LostFileSchema = z.object({
  format: z.literal('imbarco lost sectors'),
  version: z.literal(1),
  /** Digest of all that decides what that copy wrote; the sectors are only taken up for the same. */
  work: z.string().max(130),
  source: z.object({ name: z.string().max(200), sizeBytes: z.number().int().positive() }),
  target: z.object({ name: z.string().max(200), sizeBytes: z.number().int().positive() }),
  lost: z.array(LostSchema).max(1_000_000),
})
export type LostFile = z.infer<typeof LostFileSchema>

/** Throws JsonFileError, naming the place, for a text that is no such list. */
export function readLostFile(text: string): LostFile {
  return readJsonFile(text, LostFileSchema)
}
