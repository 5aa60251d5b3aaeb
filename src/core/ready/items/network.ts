import type { ReadyKind } from '../port'

/** A running system that is copied stays off the network, or the network writes to it; unless the copy goes over that. */
export const network: ReadyKind = ({ live, computer, overNetwork }) => {
  if (!computer || !(live || overNetwork)) return []
  const base = { id: 'network', known: 'seen now' }
  if (overNetwork) {
    if (computer.online)
      return [
        { ...base, state: 'settled', title: 'The network is on', why: 'the copy goes over it, and it has to stay on' },
      ]
    return [
      {
        ...base,
        state: 'blocks',
        title: `The ${computer.name} is not on the network.`,
        why: 'The copy goes over it.',
        how: 'Turn its network on.',
        action: { id: 'look-again', label: 'Look again' },
      },
    ]
  }
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
