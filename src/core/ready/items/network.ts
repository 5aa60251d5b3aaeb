import type { ReadyKind } from '../port'

/** A running system that is copied stays off the network, or the network writes to it. */
export const network: ReadyKind = ({ live, computer }) => {
  if (!live || !computer) return []
  const base = { id: 'network', known: 'seen now' }
  if (!computer.online) return [{ ...base, state: 'settled', title: 'The network is off', why: 'nothing comes in' }]
  return [
    {
      ...base,
      state: 'open',
      title: `The ${computer.name} is on the network.`,
      why: 'Updates and shared files would change it under the copy.',
      how: 'Turn the network off, or pull its cable.',
      action: { id: 'go-offline', label: 'It is off' },
      overridable: 'What comes in during the copy may be in the copy half.',
    },
  ]
}
