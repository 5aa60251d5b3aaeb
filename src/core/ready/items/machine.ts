import { lowerFirst } from '../../words'
import type { ReadyKind } from '../port'

/** What a system becomes is said with the reasons; what keeps it from starting there, before anything is copied. */
export const machine: ReadyKind = ({ goal }) => {
  if (goal?.kind !== 'virtual-machine') return []
  const { hostName, reasons, obstacles } = goal
  return [
    {
      id: 'machine',
      state: 'settled',
      known: 'read now',
      title: `It becomes a virtual machine on the ${hostName}`,
      why: lowerFirst(reasons.join(' ')),
    },
    ...obstacles.map((why, i) => ({
      id: `machine-${i + 1}`,
      state: 'open' as const,
      known: 'read now',
      title: 'The virtual machine does not start as it is proposed.',
      why,
      how: 'What can be mended is mended in Proof, on the virtual disk.',
      overridable: 'The copy is made as it is, and its first start will stop there.',
    })),
  ]
}
