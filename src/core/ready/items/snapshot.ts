import { formatSize, MIB } from '../../bytes/size'
import type { ReadyKind } from '../port'

/** Of what moment the copy of a running system is. */
export const snapshot: ReadyKind = ({ live, choices }) => {
  if (!live) return []
  const base = { id: 'snapshot', state: 'settled', known: 'as chosen' } as const
  if (choices.snapshotMib === null) {
    return [
      {
        ...base,
        title: 'No snapshot: the copy is not of one moment',
        why: 'what changes meanwhile is found out and named at the end',
      },
    ]
  }
  return [
    {
      ...base,
      title: `A snapshot of up to ${formatSize(choices.snapshotMib * MIB)}`,
      why: 'the copy is of the moment it starts; only the EFI system partition is read as it is',
    },
  ]
}
