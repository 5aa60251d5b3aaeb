import type { ReadyFacts, ReadyItem, ReadyKind } from '../port'

/** A copy outlasts a battery. */
export const mains: ReadyKind = ({ computer }) => (computer ? [itemFor(computer)] : [])

function itemFor({ mains: plugged, hasBattery, batteryPercent, name }: NonNullable<ReadyFacts['computer']>): ReadyItem {
  const base = { id: 'mains', known: 'seen now' }
  if (plugged) {
    return {
      ...base,
      state: 'settled',
      title: 'Mains power',
      why: hasBattery
        ? `a copy outlasts a battery${batteryPercent === null ? '' : `, which is at ${batteryPercent} %`}`
        : 'the cable is in',
    }
  }
  return {
    ...base,
    state: 'open',
    title: `The ${name} has no mains power.`,
    why: hasBattery ? 'A copy outlasts a battery.' : 'It cannot run without.',
    how: 'Plug the cable in.',
    action: { id: 'plug-in', label: 'It is in' },
  }
}
