import type { ReadyKind } from '../port'

/** Partitions that the locked fit leaves behind, so that nobody misses them only after the swap. */
export const leftOut: ReadyKind = ({ leftOut: left }) => {
  if (left.length === 0) return []
  const names = left.map((p) => p.title).join(' and ')
  const needed = left.some((p) => p.role === 'boot' || p.role === 'system')
  return [
    {
      id: 'left-out',
      state: 'settled',
      known: 'by the fit',
      title: `${names} ${left.length === 1 ? 'is' : 'are'} left out`,
      why: needed ? 'as the fit was locked; without it the system will most likely not start' : 'as the fit was locked',
    },
  ]
}
