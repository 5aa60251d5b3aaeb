import type { ReadyItem, ReadyKind } from '../port'

/** Both drives are there and are still those that were surveyed. */
export const connection: ReadyKind = (facts) => {
  if (facts.handsFirst) return []
  const lookAgain = { id: 'look-again', label: 'Look again' } as const
  const one = (
    which: 'source' | 'target',
    name: string,
    connected: boolean,
    unchanged: boolean,
    since: string | undefined,
  ): ReadyItem => {
    const base = { id: `${which}-same`, known: 'seen now' }
    if (!connected) {
      return {
        ...base,
        state: 'blocks',
        title: `The ${name} is not connected.`,
        why: 'It was when it was surveyed.',
        how: 'Put it back where it was, then look again.',
        action: lookAgain,
      }
    }
    if (!unchanged) {
      return {
        ...base,
        state: 'blocks',
        title: `The ${name} has changed since it was surveyed.`,
        why: 'Its partition table is another one, so the fit may no longer hold.',
        how: 'Read both drives again in Survey and lock the fit anew.',
      }
    }
    return {
      ...base,
      state: 'settled',
      title: `The ${name} is the drive that was surveyed`,
      why: since ?? `its table is as it was ${facts.surveyedAt}`,
    }
  }
  const left = facts.sourceWritten ? 'it is as the leg before left it' : undefined
  const marked = facts.targetMarked ? 'it carries the mark of this move’s unfinished copy, which erased it' : undefined
  return [
    ...(facts.sourceConnected === undefined
      ? []
      : [one('source', facts.sourceName, facts.sourceConnected, facts.sourceUnchanged, left)]),
    // An image is made anew, so there is nothing to know again, but what it is put on has to be there.
    ...(facts.target || !facts.targetConnected
      ? [one('target', facts.targetName, facts.targetConnected, facts.targetUnchanged, marked)]
      : []),
  ]
}
