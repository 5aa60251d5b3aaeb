import { isEarly, isThere } from '../../drivers/installed'
import type { NeedKind, ReadyItem } from '../port'

/** Another computer has another controller, and a system without its driver does not find its own volume. */
export const storageDriver: NeedKind = ({ goal }) => {
  if (goal?.kind !== 'other-computer') return []
  const { name, drivers, installed, atHand } = goal
  const item = (rest: Pick<ReadyItem, 'state' | 'title' | 'why'> & Partial<ReadyItem>): ReadyItem[] => [
    { id: 'storage-driver', known: 'read now', ...rest },
  ]
  const needed = drivers.join(' or ')
  if (!installed) {
    return item({
      state: 'settled',
      title: `Whether it has the driver ${needed} for the ${name} is not known`,
      why: 'its settings cannot be read; Proof will tell',
    })
  }
  const early = installed.find(isEarly)
  if (early)
    return item({
      state: 'settled',
      title: `Its driver ${early.name} serves the ${name}`,
      why: 'and starts with the loader already',
    })
  const there = installed.find(isThere)
  if (there)
    return item({
      state: 'settled',
      title: `Its driver ${there.name} serves the ${name}, and is not started early`,
      why: 'the first trial will stop there; Proof starts it early on the new drive',
    })
  if (atHand)
    return item({
      state: 'settled',
      known: 'seen now',
      title: `The driver ${atHand.service} for the ${name} is on the stick`,
      why: `${atHand.name}, in ${atHand.folder}; Proof brings it in on the new drive`,
    })
  return item({
    state: 'open',
    title: `No driver for the controller of the ${name} is at hand.`,
    why: `It needs ${needed}, and the system does not have it.`,
    how: 'Get it from the computer’s maker and put its folder, with the setup information file, into “drivers” on the rescue stick.',
    action: { id: 'look-again', label: 'Look again' },
    overridable: 'The copy will not start before the driver is brought in.',
  })
}
