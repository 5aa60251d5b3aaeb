import { berthOf, driveName } from '@/bench/places'
import type { BenchState, Drive } from '@/bench/types'
import { type Endpoint, planRoute, type RouteAnswer } from '@/core/route/route'
import { benchNow } from '../clock'
import { note } from '../logbook'
import { keep, loadMove, type Move } from '../move'
import { Refusal } from '../refusal'
import { refuseAfterCopy } from '../copy/current'

/** The way for this move as the bench is now, or why there is none. */
export function routeFor(move: Move): RouteAnswer {
  const { computer, row, bench } = move
  const slot = computer.slots.find((s) => s.id === computer.homeSlot)!
  return planRoute({
    computerName: computer.name,
    homeSlot: { name: slot.id, interfaceName: slot.interfaceName },
    source: endpointOf(move.source, bench),
    target: endpointOf(move.target, bench),
    bytes: row.survey?.source.usedBytes ?? 0,
  })
}

/** Takes the route, with the times it has now. */
export async function takeRoute(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  if (!move.row.survey?.confirmed) throw new Refusal('Finish Survey first.')
  await refuseAfterCopy(moveId)
  const found = routeFor(move)
  if (!found.works) throw new Refusal(found.reason)
  await keep(moveId, { route: { at: await benchNow(), route: found.route } })
  await note(moveId, `route taken: ${found.route.title.toLowerCase()}`)
}

function endpointOf(drive: Drive, bench: BenchState): Endpoint {
  const { name, link, inComputer } = berthOf(drive.place, bench)
  const { readBytesPerSecond, writeBytesPerSecond, requestSeconds, interfaceName } = drive
  return {
    driveId: drive.id,
    name: driveName(drive),
    interfaceName,
    readBytesPerSecond,
    writeBytesPerSecond,
    requestSeconds,
    berth: link && { name, link, inComputer },
  }
}
