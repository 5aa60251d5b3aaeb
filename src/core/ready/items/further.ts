import type { FurtherTarget, ReadyItem, ReadyKind } from '../port'

/** Further drives that are written in the same reading. */
export const further: ReadyKind = ({ further: drives }) => drives.map(itemFor)

function itemFor({ id, name, connected, sameSize, taken, holds }: FurtherTarget): ReadyItem {
  const base = { id: `further-${id}`, known: 'seen now' }
  const wrong = (title: string, why: string, how: string): ReadyItem => ({ ...base, state: 'blocks', title, why, how })
  if (!connected)
    return wrong(
      `The ${name} is not connected.`,
      'It is to be written in the same reading.',
      'Put it in, or take it off this copy.',
    )
  if (!sameSize)
    return wrong(
      `The ${name} is of another size.`,
      'Drives written in one reading are all of one size.',
      'Take it off this copy.',
    )
  if (taken !== null) return wrong(taken, 'It would be erased.', 'Take it off this copy.')
  return {
    ...base,
    state: 'settled',
    title: `The ${name} is written in the same reading`,
    why: `${holds}; all of it will be erased`,
  }
}
