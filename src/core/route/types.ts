import * as z from 'zod'
import { type Place, PlaceSchema } from '../things/drive'

/** How fast the parts of a transfer move bytes. Rates in bytes per second. */
export const LegTimingSchema = z.object({
  copyBytesPerSecond: z.number(),
  checkBytesPerSecond: z.number(),
  /** What each request costs besides, in seconds. */
  requestSeconds: z.number(),
  /** The same for reading back, which only the target takes part in; absent in plans of before. */
  checkRequestSeconds: z.number().optional(),
  limitedBy: z.string(),
})
export type LegTiming = z.infer<typeof LegTimingSchema>

/** What holds a system, or will: a drive where it sits, an image file in a store, a virtual disk on a host. */
export const PlacedMediumSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('drive'), driveId: z.string(), place: PlaceSchema }),
  /** `store` is the drive or the host that the file lies on; `place` where the drive sits. */
  z.object({ kind: z.literal('image'), store: z.string(), place: PlaceSchema.nullable() }),
  z.object({ kind: z.literal('virtual-disk'), hostId: z.string() }),
])
export type PlacedMedium = z.infer<typeof PlacedMediumSchema>

/** One thing that is done: by hands, by a start, or by moving bytes. */
export const ActionSchema = z.discriminatedUnion('do', [
  z.object({ do: z.literal('off'), computerId: z.string() }),
  z.object({ do: z.literal('take'), driveId: z.string(), from: PlaceSchema }),
  z.object({ do: z.literal('put'), driveId: z.string(), into: PlaceSchema }),
  z.object({ do: z.literal('secure-boot'), computerId: z.string(), on: z.boolean() }),
  /** `system`: from the drive that it lives on; `target`: from the new drive, at the end. */
  z.object({ do: z.literal('start'), computerId: z.string(), from: z.enum(['stick', 'system', 'target']) }),
  z.object({ do: z.literal('start-virtual'), hostId: z.string() }),
  z.object({
    do: z.literal('transfer'),
    how: z.enum(['copy', 'capture', 'restore', 'send', 'write-disk']),
    /** Which of the move's drives it is about; 0 is the system's. */
    pair: z.number().int().nonnegative(),
    from: PlacedMediumSchema,
    to: PlacedMediumSchema,
    /** Computer or host that does it. */
    by: z.string(),
    /** For `send`: the one that receives. */
    receivedBy: z.string().optional(),
    /** The system goes on running while it is read. */
    live: z.boolean(),
    bytes: z.number(),
    /** What the devices and links would give. */
    timing: LegTimingSchema,
    /** The same for transfers over the same links. */
    linkKey: z.string(),
    lowSeconds: z.number(),
    highSeconds: z.number(),
    /** How many earlier copies over these links the times are corrected by, and their mean share of the rate. */
    known: z.object({ copies: z.number(), share: z.number() }),
  }),
])
export type Action = z.infer<typeof ActionSchema>
export type Transfer = Extract<Action, { do: 'transfer' }>
export type Hands = Exclude<Action, { do: 'transfer' }>

export const PlanSchema = z.object({
  /** Tells a plan from others: its transfers, with who does them and where the drives sit. */
  id: z.string(),
  title: z.string(),
  why: z.string(),
  actions: z.array(ActionSchema),
  /** Times a drive is taken out or put in by hand. */
  handSteps: z.number(),
  /** Times a computer is opened. */
  openings: z.number(),
  lowSeconds: z.number(),
  highSeconds: z.number(),
  limitedBy: z.string(),
  live: z.boolean(),
  /** The new drive sits where it will live while it is written. */
  testedInPlace: z.boolean(),
  leavesImage: z.boolean(),
  /** Ids of what it needs besides the computer and its drives. */
  things: z.array(z.string()),
  risks: z.array(z.string()),
})
export type Plan = z.infer<typeof PlanSchema>

export interface LeftOutside {
  readonly driveId: string
  readonly place: Extract<Place, { kind: 'bay' }>
}

/** A transfer with what hands and starts do before it. */
export interface Leg {
  readonly before: readonly Hands[]
  readonly transfer: Transfer
}

/**
 * Drives with the old system on them, the old one and any on the way, that a plan leaves in a dock or an enclosure: no
 * hand takes them out of it after the last copy. Starting with one of them still plugged in would start with two drives
 * of one identity.
 */
export function leftOutside(plan: Pick<Plan, 'actions'>, targetIds: readonly string[]): LeftOutside[] {
  const places = new Map<string, Place>()
  for (const action of plan.actions) {
    if (action.do === 'take') places.delete(action.driveId)
    if (action.do === 'put') places.set(action.driveId, action.into)
    if (action.do !== 'transfer') continue
    for (const medium of [action.from, action.to]) if (medium.kind === 'drive') places.set(medium.driveId, medium.place)
  }
  const copied = plan.actions.flatMap((a) =>
    a.do === 'transfer' ? [a.from, a.to].flatMap((h) => (h.kind === 'drive' ? [h.driveId] : [])) : [],
  )
  return [...new Set(copied)].flatMap((driveId) => {
    const place = places.get(driveId)
    return place?.kind === 'bay' && !targetIds.includes(driveId) ? [{ driveId, place }] : []
  })
}

/** Whether an adapter is plugged into a computer for some copy of a plan. */
export function plugsIn(plan: Pick<Plan, 'actions'>, accessoryId: string, computerId: string): boolean {
  return plan.actions.some(
    (action) =>
      action.do === 'transfer' &&
      (action.by === computerId || action.receivedBy === computerId) &&
      [action.from, action.to].some(
        (medium) => 'place' in medium && medium.place?.kind === 'bay' && medium.place.accessoryId === accessoryId,
      ),
  )
}

/** The legs of a plan in order, and what comes after the last. */
export function legsOf(plan: Pick<Plan, 'actions'>): { legs: Leg[]; after: Hands[] } {
  const legs: Leg[] = []
  let before: Hands[] = []
  for (const action of plan.actions) {
    if (action.do === 'transfer') {
      legs.push({ before, transfer: action })
      before = []
    } else before.push(action)
  }
  return { legs, after: before }
}
