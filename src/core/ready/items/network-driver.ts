import { isThere } from '../../drivers/installed'
import type { NeedKind, ReadyItem } from '../port'

/** Another computer has another network card, and without its driver a system is alone at its first start. */
export const networkDriver: NeedKind = ({ goal }) => {
  if (goal?.kind !== 'other-computer' || !goal.network) return []
  const { name, network } = goal
  const { drivers, deviceId, installed, atHand } = network
  const item = (rest: Pick<ReadyItem, 'state' | 'title' | 'why'> & Partial<ReadyItem>): ReadyItem[] => [
    { id: 'network-driver', known: 'read now', ...rest },
  ]
  const needed = drivers.join(' or ') || deviceId
  const there = installed?.find(isThere)
  if (there)
    return item({
      state: 'settled',
      title: `Its driver ${there.name} serves the network card of the ${name}`,
      why: 'so it is in the network from the first start on',
    })
  if (atHand)
    return item({
      state: 'settled',
      known: 'seen now',
      title: `The driver ${atHand.service} for the network card of the ${name} is on the stick`,
      why: `${atHand.name}, in ${atHand.folder}; Proof brings it in on the new drive`,
    })
  if (!installed)
    return item({
      state: 'settled',
      title: `Whether it has the driver ${needed} for the network card of the ${name} is not known`,
      why: 'its settings cannot be read; its first start will tell',
    })
  return item({
    state: 'open',
    title: `No driver for the network card of the ${name} is at hand.`,
    why: `It needs ${needed}, and the system does not have it.`,
    how: 'Get it from the computer’s maker and put its folder, with the setup information file, into “drivers” on the rescue stick.',
    action: { id: 'look-again', label: 'Look again' },
    overridable: 'The system starts, and is not in the network until the driver is brought in.',
  })
}
