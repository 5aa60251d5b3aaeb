import type { ReadyKind } from '../port'

/** Two of one address in one network take each other off it. */
export const address: ReadyKind = ({ computer }) => {
  if (!computer || computer.addresses.length === 0) return []
  const list = computer.addresses.join(' and ')
  return [
    {
      id: 'address',
      state: 'settled',
      known: 'from the bench',
      title: `The ${computer.name} has the fixed ${computer.addresses.length === 1 ? 'address' : 'addresses'} ${list}`,
      why: 'the old and the new must never be on the network together',
    },
  ]
}
