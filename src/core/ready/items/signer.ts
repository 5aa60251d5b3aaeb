import type { NeedKind, ReadyItem } from '../port'

/** Secure Boot of another computer may trust others than the one who signed this system's loader. */
export const signer: NeedKind = ({ goal }) => {
  if (goal?.kind !== 'other-computer' || !goal.loader) return []
  const { name, loader } = goal
  const { path, judgement } = loader
  const item = (rest: Pick<ReadyItem, 'state' | 'title' | 'why'> & Partial<ReadyItem>): ReadyItem[] => [
    { id: 'signer', known: 'read now', ...rest },
  ]
  if (judgement.accepts)
    return item({
      state: 'settled',
      title: `Secure Boot of the ${name} accepts its loader`,
      why: `${path} is ${judgement.found}`,
    })
  if (judgement.accepts === undefined)
    return item({
      state: 'settled',
      title: `Whether Secure Boot of the ${name} accepts its loader is not known`,
      why: `${path} is ${judgement.found}; its first start will tell`,
    })
  return item({
    state: 'blocks',
    title: `Secure Boot of the ${name} will refuse its loader: ${judgement.found}.`,
    why: `${path}. ${judgement.why}`,
    how: 'Turn Secure Boot off in the settings of that computer, or have its firmware trust the signer, and look again.',
    action: { id: 'look-again', label: 'Look again' },
    overridable: 'The first start will stop there.',
  })
}
