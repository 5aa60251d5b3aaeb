import * as z from 'zod'
import { line } from '../words-schema'

const count = z.number().int().min(0).max(99)

/** Screws of one kind that sit together. */
export const ScrewGroupSchema = z.object({
  count: z.number().int().min(1).max(99),
  /** Thread and head: `M3`, `knurled 6-32`. */
  kind: line().trim().min(1).max(40),
  lengthMm: z.number().positive().max(200).nullable(),
  where: line().max(80),
  /** What they are under, where they are not seen at once. */
  hidden: line().max(80).default(''),
})
export type ScrewGroup = z.infer<typeof ScrewGroupSchema>

const HeldSchema = z.object({
  screws: count,
  /** All of them in a few words: `M3 × 5 mm, two on each side`. */
  screw: line().max(80),
  how: line().max(200),
  /** The same one by one; taken from the words where it is not said. */
  groups: z.array(ScrewGroupSchema).max(8).default([]),
})
type Held = z.infer<typeof HeldSchema>

/** A part with the way it lets go, or goes over to the new drive. */
const PartSchema = z.object({ name: line().trim().min(1).max(40), how: line().max(200) })

/** What a computer's case asks for before a drive is reached. */
export const ChassisSchema = z.object({
  kind: z.enum(['desktop', 'tower', 'laptop', 'server', 'virtual']),
  hasBattery: z.boolean(),
  /** The part that comes off, and what holds it. */
  cover: HeldSchema.extend({ name: line().trim().min(1).max(40) }),
  /** What holds a drive in its place. */
  driveMount: HeldSchema,
  /** Plugs on the drive and how each lets go, in the order in which they come off. */
  connectors: z.array(PartSchema).max(6).default([]),
  /** What goes from the old drive over to the new one: a bracket, a heat sensor. */
  movesOver: z.array(PartSchema).max(4).default([]),
  tools: z.array(line().max(40)).max(12),
})
export type Chassis = z.infer<typeof ChassisSchema>

/** The screws of a part, kind by kind. */
export function screwGroups({ screws, screw, groups }: Held): ScrewGroup[] {
  if (groups.length > 0) return groups
  if (screws === 0) return []
  const words = /^(.*?)(?: × ([\d.]+) mm)?(?:, (.*))?$/.exec(screw.trim())
  const lengthMm = words?.[2] ? Number(words[2]) : null
  return [{ count: screws, kind: words?.[1] || 'screw', lengthMm, where: words?.[3] ?? '', hidden: '' }]
}

/** `M3 × 5 mm`. */
export function screwWords({ kind, lengthMm }: Pick<ScrewGroup, 'kind' | 'lengthMm'>): string {
  return lengthMm === null ? kind : `${kind} × ${lengthMm} mm`
}
