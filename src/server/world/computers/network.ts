import type { BenchState } from '@/core/things/bench'
import type { Computer } from '@/core/things/computer'
import { Refusal } from '../../ground/refusals'
import { drivesInside } from '..'
import { findDuplicateDiskIds } from './duplicate-ids'

/** Its system runs, and reaches the network. */
const isOn = ({ running, online, networkCards }: Computer) =>
  running === 'system' && online && networkCards.some((card) => card.unplugged !== true)

/**
 * Two machines that come from one system have one name, and one address where that is fixed. Throws Refusal where one
 * is on the network that this one would come to.
 */
export async function refuseTwinOnNetwork(computer: Computer, bench: BenchState): Promise<void> {
  if (!computer.networkCards.some((card) => card.unplugged !== true)) return
  const drivesOf = ({ id }: Computer) => {
    const inside = drivesInside(bench, id)
    return bench.drives.filter((d) => inside.includes(d.id))
  }
  const own = drivesOf(computer)
  for (const other of bench.computers) {
    if (other.id === computer.id || !isOn(other)) continue
    // Only what comes from one system is one machine twice; other pairs of alike drives are no matter here.
    if (!other.virtual && !computer.virtual) continue
    if (await findDuplicateDiskIds([...own, ...drivesOf(other)]))
      throw new Refusal('network-twin', { computer: computer.name, twin: other.name })
  }
}
