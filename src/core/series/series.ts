import * as z from 'zod'
import { line } from '../words-schema'

const id = line().min(1).max(80)

/** What of a series stays as it was when it was opened; its computers are moves of their own. */
export const SeriesSchema = z.object({
  name: line().trim().min(1, 'A series needs a name').max(60),
  customer: line().trim().min(1, 'A series needs a customer').max(80),
  /** The drive that all targets are made from, or that stands for the image. */
  sourceId: id,
})
export type Series = z.infer<typeof SeriesSchema>

/** The computers of a series, each with the drive that is to be its own. */
export const MembersSchema = z
  .array(z.object({ computerId: id, targetId: id }))
  .min(1, 'A series needs a computer')
  .max(60)
export type Members = z.infer<typeof MembersSchema>

/** What contradicts itself in a list of computers and drives, in a sentence; undefined where nothing does. */
export function whyNotASeries(members: Members, nameOf: (id: string) => string): string | undefined {
  const twice = (ids: readonly string[]) => ids.find((one, i) => ids.indexOf(one) < i)
  const computer = twice(members.map((m) => m.computerId))
  if (computer) return `The ${nameOf(computer)} is named twice. Each computer gets one drive.`
  const drive = twice(members.map((m) => m.targetId))
  if (drive) return `Two computers name the ${nameOf(drive)}. Each needs a drive of its own.`
  return undefined
}

/**
 * Where one computer of a series is. `prepares`: its drives are read and laid out; `waits` for a bay; `hands` have a
 * step to do; `settle`: Ready asks for more than the plate; `aside`: it was set aside, the others go on.
 */
export type MemberState =
  | 'prepares'
  | 'waits'
  | 'hands'
  | 'settle'
  | 'plate'
  | 'copies'
  | 'failed'
  | 'start'
  | 'hand-over'
  | 'done'
  | 'aside'
  | 'trouble'

/** What asks for somebody, in the order in which it is best done: what frees a bay comes first. */
const ASKS: readonly MemberState[] = ['failed', 'start', 'hand-over', 'plate', 'hands', 'settle', 'trouble']

/** Counts of a series: how many are done, run, wait, and need somebody. */
export function countsOf(states: readonly MemberState[]) {
  const count = (...of: MemberState[]) => states.filter((s) => of.includes(s)).length
  return {
    done: count('done'),
    runs: count('copies', 'prepares'),
    waits: count('waits'),
    asks: count(...ASKS),
    aside: count('aside'),
  }
}

/** Those of a list that ask for somebody, what is best done first coming first. */
export function asking<T extends { readonly state: MemberState }>(members: readonly T[]): T[] {
  const rank = ({ state }: T) => ASKS.indexOf(state)
  return members.filter((m) => rank(m) >= 0).sort((a, b) => rank(a) - rank(b))
}
