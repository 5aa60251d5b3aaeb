import type { ReadyFacts, ReadyItem, ReadyKind } from '../port'

/** Nothing on the source is in use while it is copied. */
export const notRunning: ReadyKind = (facts) => {
  const { computer, hostName, live } = facts
  if (computer && live) return [liveItem(computer)]
  if (computer) return [runningItem(facts, computer)]
  const name = hostName ?? 'host'
  const title = `${/^this /i.test(name) ? name : `The ${name}`} does the copying`
  return [
    { id: 'not-running', known: 'by the plan', state: 'settled', title, why: 'no customer’s computer is running' },
  ]
}

type Copier = NonNullable<ReadyFacts['computer']>

function liveItem({ name, running }: Copier): ReadyItem {
  const base = { id: 'not-running', known: 'seen now' }
  if (running === 'system') {
    return { ...base, state: 'settled', title: `The ${name} runs its own system`, why: 'it is copied while it runs' }
  }
  return {
    ...base,
    state: 'open',
    title: `The ${name} does not run its own system.`,
    why: 'This route copies it while it runs.',
    how: 'Start it from its own drive.',
    action: { id: 'start-system', label: 'Start it' },
  }
}

function runningItem({ stickName }: ReadyFacts, { name, running, bootMenuKey, secureBoot }: Copier): ReadyItem {
  const base = { id: 'not-running', known: 'seen now' }
  if (running === 'stick') {
    return {
      ...base,
      state: 'settled',
      title: `The ${name} runs from the rescue stick`,
      why: secureBoot
        ? 'nothing on the source is in use; Secure Boot lets the stick’s signed loader pass'
        : 'nothing on the source is in use',
    }
  }
  return {
    ...base,
    state: 'open',
    title: running === 'system' ? `The ${name} is running its own system.` : `The ${name} is switched off.`,
    why:
      running === 'system'
        ? 'Files would change while they are copied.'
        : 'The drives can only be read while it runs from the rescue stick.',
    how: `Shut it down and start it from the ${stickName}; ${bootMenuKey} opens its boot menu.`,
    action: { id: 'start-stick', label: 'Start it from the stick' },
  }
}
