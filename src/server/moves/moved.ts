import { type MovedVolume, movedVolumes } from '@/core/repair/moved'
import type { Move } from '.'

/** Every volume of a move under the names that a system knew it by, and those it is to have. */
export function movedVolumesOf({ row }: Pick<Move, 'row'>): MovedVolume[] {
  return (row.survey?.pairs ?? []).flatMap(({ source }, i) => {
    const layout = row.fit?.pairs[i]?.layout
    return layout ? movedVolumes(source, layout) : []
  })
}
