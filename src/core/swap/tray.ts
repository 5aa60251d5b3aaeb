import { type ScrewGroup, screwWords } from '../things/chassis'
import type { SwapStep, Ticks } from './types'

/** Screws that lie on the tray: out and not in again. */
export interface OnTray {
  readonly words: string
  readonly count: number
}

/** How many screws of a step are ticked, of how many. */
export function ticked(step: SwapStep, ticks: Ticks): { readonly done: number; readonly of: number } {
  const groups = step.screws?.groups ?? []
  const given = ticks[step.id] ?? []
  return {
    done: groups.reduce((sum, { count }, i) => sum + Math.min(count, given[i] ?? 0), 0),
    of: groups.reduce((sum, { count }) => sum + count, 0),
  }
}

/** What lies on the tray after the steps so far: every screw that came out and has not gone in again, by its kind. */
export function onTray(steps: readonly SwapStep[], done: readonly string[], ticks: Ticks): OnTray[] {
  const tray = new Map<string, number>()
  const put = (group: ScrewGroup, count: number) => {
    const words = screwWords(group)
    tray.set(words, (tray.get(words) ?? 0) + count)
  }
  for (const step of steps) {
    const sign = step.screws?.way === 'in' ? -1 : 1
    for (const [i, group] of (step.screws?.groups ?? []).entries())
      put(group, sign * (done.includes(step.id) ? group.count : Math.min(group.count, ticks[step.id]?.[i] ?? 0)))
  }
  return [...tray].flatMap(([words, count]) => (count > 0 ? [{ words, count }] : []))
}
