import type { Action, Transfer } from './types'

/** What a step of the hands counts for where routes are put in order. */
const SECONDS_PER_STEP = 300

/** The time of a route with that of the hands, by which routes are compared. */
export function effortSeconds(route: { highSeconds: number; handSteps: number; openings: number }): number {
  return route.highSeconds + (route.handSteps + route.openings) * SECONDS_PER_STEP
}

/** The transfers among actions, in order. */
export function transfersOf(actions: readonly Action[]): Transfer[] {
  return actions.filter((a) => a.do === 'transfer')
}

/** Times a drive is taken out or put in. */
export function handsOf(actions: readonly Action[]): number {
  return actions.filter((a) => a.do === 'take' || a.do === 'put').length
}

/** Times a computer is opened: once for all that is done in its slots between two starts of it. */
export function openingsOf(actions: readonly Action[]): number {
  let openings = 0
  const open = new Set<string>()
  for (const action of actions) {
    const place = action.do === 'take' ? action.from : action.do === 'put' ? action.into : undefined
    if (place?.kind === 'slot' && !open.has(place.computerId)) {
      open.add(place.computerId)
      openings++
    }
    if (action.do === 'start') open.delete(action.computerId)
  }
  return openings
}

/** Accessories and computers of the shop that a transfer goes over. */
export function thingsOfTransfer(transfer: Transfer): string[] {
  const of = (medium: Transfer['from']): string[] => {
    if (medium.kind === 'virtual-disk') return [medium.hostId]
    const bay = medium.place?.kind === 'bay' ? [medium.place.accessoryId] : []
    return medium.kind === 'image' ? [...bay, medium.store] : bay
  }
  return [
    ...of(transfer.from),
    ...of(transfer.to),
    transfer.by,
    ...(transfer.receivedBy ? [transfer.receivedBy, 'network'] : []),
  ]
}
