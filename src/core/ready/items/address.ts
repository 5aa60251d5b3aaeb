import type { ReadyKind } from '../port'

/** Two of one address in one network take each other off it. */
export const address: ReadyKind = ({ home: { name, addresses }, goal }) => {
  if (addresses.length === 0) return []
  const list = addresses.join(' and ')
  const base = { id: 'address', state: 'settled', known: 'from the bench' } as const
  const title = `The ${name} has the fixed ${addresses.length === 1 ? 'address' : 'addresses'} ${list}`
  if (goal?.kind === 'virtual-machine') {
    const why = `the machine on the ${goal.hostName} starts without network, and gets it only when the old one is off for good`
    return [{ ...base, title, why }]
  }
  return [{ ...base, title, why: 'the old and the new must never be on the network together' }]
}
