import * as z from 'zod'
import { line } from '../words-schema'

/** Why a customer wants a move. */
export const REASONS = [
  'more room',
  'more speed',
  'failing drive',
  'virtual machine',
  'another computer',
  'several computers',
] as const
export const ReasonSchema = z.enum(REASONS)
export type Reason = z.infer<typeof ReasonSchema>

const id = line().min(1).max(80)

/** What a move is about, before anything is read. */
export const BriefSchema = z.object({
  name: line().trim().min(1, 'A move needs a name').max(80),
  customer: line().trim().min(1, 'A move needs a customer').max(80),
  reason: ReasonSchema,
  /** The computer that the system lives in. */
  computerId: id,
  /** Each drive that is moved with its own target; the system's first. A target of null becomes a virtual disk. */
  pairs: z
    .array(
      z.object({
        sourceId: id,
        targetId: id.nullable(),
        /** The one partition that goes, onto a drive that keeps everything else; the whole drive where none is said. */
        volume: z.number().int().min(1).max(1024).optional(),
      }),
    )
    .min(1)
    .max(12),
  toVirtualMachine: z.boolean(),
  /** Where the system will live when that is another computer. */
  targetComputerId: id.nullable(),
  /** The old drive stays in the computer beside the new one; it comes out where nothing is said. */
  oldDrive: z.literal('stays').optional(),
  /** The series that it is one of, in which every target gets an identity of its own. */
  series: id.optional(),
  /** Images on a host that hold the system's drive already. */
  images: z.array(line().max(180)).max(12).default([]),
  /** Backup that the customer told of, its day as `2026-05-02`; null when there is none. */
  backup: z.object({ where: line().trim().min(1, 'Say where the backup is').max(120), date: z.iso.date() }).nullable(),
  /** Day and time without zone, as `2026-05-04T13:00`; empty when nothing was promised. */
  promised: z.union([z.literal(''), z.string().regex(/^\d{4}-\d\d-\d\dT\d\d:\d\d$/)]),
})
export type Brief = z.infer<typeof BriefSchema>

/** Whether there is a computer in which the old drive could stay beside the new one. */
export function mayStay({ toVirtualMachine, pairs, targetComputerId, computerId }: Brief): boolean {
  const stays = targetComputerId === null || targetComputerId === computerId
  return !toVirtualMachine && stays && pairs.every((p) => p.volume === undefined)
}

/** What contradicts itself in a brief, in a sentence; undefined when it can be taken as it is. */
export function whyNotTaken(brief: Brief): string | undefined {
  const sources = brief.pairs.map((p) => p.sourceId)
  const targets = brief.pairs.flatMap((p) => (p.targetId === null ? [] : [p.targetId]))
  if (new Set(sources).size < sources.length) return 'A drive is named as a source twice.'
  if (new Set(targets).size < targets.length) return 'Two drives have the same target.'
  if (targets.some((t) => sources.includes(t))) return 'A drive is both a source and a target.'
  if (!brief.toVirtualMachine && targets.length < sources.length) return 'Every drive needs a target of its own.'
  const alone = brief.pairs.some((p) => p.volume !== undefined)
  if (alone && brief.toVirtualMachine) return 'A virtual machine is made of whole drives, not of one system of a drive.'
  if (alone && brief.pairs.length > 1) return 'One system of a drive is moved by itself, without further drives.'
  if (brief.oldDrive === 'stays') {
    if (brief.toVirtualMachine) return 'A virtual machine takes no drive out, so nothing has to stay in.'
    if (alone) return 'A drive that one system is moved from stays in use anyway.'
    if (brief.targetComputerId !== null && brief.targetComputerId !== brief.computerId)
      return 'The old drive stays in beside the new one only where the system stays in its computer.'
  }
  if (brief.toVirtualMachine && targets.length > 0) return 'A virtual machine gets virtual disks, not drives.'
  return undefined
}
