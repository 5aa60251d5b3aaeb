import * as z from 'zod'

/** Attributes a drive reports of itself. What its kind does not report is absent. */
export const HealthSchema = z.object({
  powerOnHours: z.number().int().nonnegative(),
  temperatureCelsius: z.number(),
  /** Sectors that were replaced by spare ones. */
  reallocatedSectors: z.number().int().nonnegative().optional(),
  /** Sectors that could not be read and wait to be written before they are judged. */
  pendingSectors: z.number().int().nonnegative().optional(),
  /** Sectors that the drive gave up. */
  uncorrectableSectors: z.number().int().nonnegative().optional(),
  /** Of its rated life in writes; may pass 100. */
  percentageUsed: z.number().nonnegative().optional(),
  /** Per cent of spare blocks left, and the share below which the drive warns. */
  availableSpare: z.number().min(0).max(100).optional(),
  spareThreshold: z.number().min(0).max(100).optional(),
  mediaErrors: z.number().int().nonnegative().optional(),
  /** The drive's own verdict is that it fails. */
  saysItFails: z.boolean().optional(),
})
export type Health = z.infer<typeof HealthSchema>

/** `failing`: copy it first and read as little else of it as can be. `watch`: fit for a move, not for years. */
export type HealthState = 'good' | 'watch' | 'failing' | 'unknown'

export interface HealthVerdict {
  readonly state: HealthState
  /** The one attribute that decided, as a sentence. */
  readonly reason: string
}

/** Beyond these a temperature is a reason by itself. */
const HOT_CELSIUS = 60
const MANY_REALLOCATED = 100
const WORN_PERCENT = 90
const OLD_HOURS = 5 * 365 * 24

type Rule = (health: Health) => HealthVerdict | undefined

const count = (value: number, one: string, many = `${one}s`) => `${value} ${value === 1 ? one : many}`

/** What decides, the worst first. */
const RULES: readonly Rule[] = [
  ({ saysItFails }) =>
    saysItFails ? { state: 'failing', reason: 'The drive says itself that it is about to fail.' } : undefined,
  ({ pendingSectors: n = 0 }) =>
    n > 0 ? { state: 'failing', reason: `${count(n, 'sector')} cannot be read.` } : undefined,
  ({ uncorrectableSectors: n = 0 }) =>
    n > 0 ? { state: 'failing', reason: `The drive gave up ${count(n, 'sector')}.` } : undefined,
  ({ mediaErrors: n = 0 }) =>
    n > 0 ? { state: 'failing', reason: `The drive counts ${count(n, 'error')} of its medium.` } : undefined,
  ({ availableSpare, spareThreshold = 10 }) =>
    availableSpare !== undefined && availableSpare < spareThreshold
      ? {
          state: 'failing',
          reason: `${availableSpare} % of the spare blocks are left; it warns below ${spareThreshold} %.`,
        }
      : undefined,
  ({ percentageUsed }) =>
    percentageUsed !== undefined && percentageUsed >= 100
      ? { state: 'failing', reason: `It has had ${percentageUsed} % of the writes it was made for.` }
      : undefined,
  ({ reallocatedSectors: n = 0 }) =>
    n >= MANY_REALLOCATED
      ? { state: 'failing', reason: `${count(n, 'sector')} were replaced by spare ones; so many go on to be more.` }
      : undefined,
  ({ reallocatedSectors: n = 0 }) =>
    n > 0 ? { state: 'watch', reason: `${count(n, 'sector was', 'sectors were')} replaced by spare ones.` } : undefined,
  ({ percentageUsed }) =>
    percentageUsed !== undefined && percentageUsed >= WORN_PERCENT
      ? { state: 'watch', reason: `It has had ${percentageUsed} % of the writes it was made for.` }
      : undefined,
  ({ temperatureCelsius: t }) =>
    t >= HOT_CELSIUS ? { state: 'watch', reason: `It is at ${t} °C; let it cool before a long copy.` } : undefined,
  ({ powerOnHours: h }) =>
    h >= OLD_HOURS
      ? { state: 'watch', reason: `It has run for ${h} hours, ${(h / 8760).toFixed(1)} years without a break.` }
      : undefined,
]

/** What the attributes come to, by the worst of them. */
export function healthVerdict(health: Health | undefined): HealthVerdict {
  if (!health) return { state: 'unknown', reason: 'The drive reports nothing of its health through this link.' }
  for (const rule of RULES) {
    const verdict = rule(health)
    if (verdict) return verdict
  }
  return { state: 'good', reason: 'No sector was replaced or lost, and it is neither worn nor hot.' }
}
