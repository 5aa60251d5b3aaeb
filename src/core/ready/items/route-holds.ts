import type { ReadyKind } from '../port'

/** Only on the list when a drive that is still connected was moved to another place. */
export const routeHolds: ReadyKind = ({ handsFirst, routeHolds: holds, sourceConnected, targetConnected }) => {
  if (handsFirst || holds || !sourceConnected || !targetConnected) return []
  return [
    {
      id: 'route-holds',
      state: 'blocks',
      known: 'seen now',
      title: 'A drive sits elsewhere than the route has it.',
      why: 'The way of the bytes and its time are others now.',
      how: 'Put it back, or take the route anew.',
      action: { id: 'look-again', label: 'Look again' },
    },
  ]
}
