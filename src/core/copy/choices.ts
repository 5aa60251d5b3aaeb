import * as z from 'zod'
import type { CopyScope } from './plan'

/** What a person chooses of a copy before it starts. */
export const CopyChoicesSchema = z.object({
  /** Used blocks of every volume whose map is known, or every sector of everything. */
  read: z.enum(['used', 'every']).default('used'),
  /** Partitions of the source, by number, of which every sector is taken all the same. */
  everyOf: z.array(z.number().int().positive()).max(200).default([]),
  /** Maps of used blocks are believed, and not held against the files before. */
  mapsUnchecked: z.boolean().default(false),
  /** Page, hibernation and swap files are left out: they keep their length and read as zeros. */
  skipPageFiles: z.boolean().default(false),
  /** Everything is read back and compared. */
  verify: z.boolean().default(true),
  /** Minutes that reading around trouble may take; null for as long as it takes. */
  rescueMinutes: z.number().int().positive().max(10_000).nullable().default(null),
  /** How often a sector that does not read is tried. */
  tries: z.number().int().min(1).max(20).default(2),
  /** Of a running system: MiB that a snapshot may hold of what changes meanwhile; null for no snapshot. */
  snapshotMib: z.number().int().positive().max(1_000_000).nullable().default(2048),
  /** Further drives of the same size that are written in the same reading. */
  further: z.array(z.string().max(80)).max(8).default([]),
})
export type CopyChoices = z.infer<typeof CopyChoicesSchema>

/** Some of the choices, to be laid over those that were made before: what is not named gets no usual value. */
export const CopyChoicesChangeSchema = z.record(z.string(), z.unknown()).transform((given): Partial<CopyChoices> => {
  const parsed = CopyChoicesSchema.partial().parse(given)
  return Object.fromEntries(Object.entries(parsed).filter(([name]) => name in given))
})

export const USUAL_CHOICES: CopyChoices = CopyChoicesSchema.parse({})

export function scopeOf({ read, everyOf, skipPageFiles, mapsUnchecked }: CopyChoices): CopyScope {
  return { everySector: read === 'every', everyOf, skipPageFiles, mapsUnchecked }
}
