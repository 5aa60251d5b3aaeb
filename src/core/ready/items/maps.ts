import { groupDigits } from '../../bytes/size'
import { copiedByMap } from '../../survey/copied-by-map'
import type { ReadyFacts, ReadyItem, ReadyKind } from '../port'

/** A map that misses what files use makes a copy with holes, which nobody sees before such a file is opened. */
export const maps: ReadyKind = ({ source, choices, surveyedAt, mapCheckProgress, resized }) => {
  if (choices.read === 'every') return []
  const parts = source.partitions.filter((p) => copiedByMap(p) && !choices.everyOf.includes(p.number))
  if (parts.length === 0) return []
  const item = (rest: Pick<ReadyItem, 'state' | 'title' | 'why'> & Partial<ReadyItem>): ReadyItem[] => [
    { id: 'maps', known: `read ${surveyedAt}`, ...rest },
  ]
  const missed = parts.filter((p) => p.volume?.map === 'missed')
  const changed = missed.filter((p) => resized.includes(p.number))
  if (changed.length > 0) {
    return item({
      state: 'blocks',
      title: `${names(changed)} cannot be resized.`,
      why: 'Its used-block map misses blocks that its files use.',
      how: 'Keep its size in Fit, or run a file-system check in its own computer and read the drive again in Survey.',
    })
  }
  const unchecked = parts.filter((p) => p.volume?.map === undefined)
  if (unchecked.length > 0 && choices.mapsUnchecked) {
    return item({
      state: 'settled',
      known: 'as chosen',
      title: `Used-block map of ${names(unchecked)} not checked`,
      why: 'blocks it misses would be missing from the copy',
      how: 'It can still be checked against the files.',
      action: { id: 'check-maps', label: 'Check now' },
    })
  }
  if (unchecked.length > 0 && mapCheckProgress) {
    return item({
      state: 'open',
      known: 'running',
      title: 'Checking used-block maps against the files.',
      why: `${groupDigits(mapCheckProgress.files)} files of ${mapCheckProgress.title} so far.`,
      how: 'The copy can start without it, and its summary will say so.',
      action: { id: 'skip-map-check', label: 'Skip the check' },
    })
  }
  if (unchecked.length > 0) {
    return item({
      state: 'open',
      known: 'not done',
      title: `The used-block map of ${names(unchecked)} has not been checked.`,
      why: 'Blocks it misses would be missing from the copy.',
      how: 'Checking reads every file record.',
      action: { id: 'check-maps', label: 'Check now' },
      overridable: 'Blocks that the map misses would be missing from the copy.',
    })
  }
  if (missed.length > 0) {
    return item({
      state: 'settled',
      title: `The used-block map of ${names(missed)} misses blocks that its files use`,
      why: 'those are copied too, and its size is kept; it needs a file-system check',
    })
  }
  const untold = parts.filter((p) => p.volume?.map === 'unchecked')
  if (untold.length > 0) {
    return item({
      state: 'settled',
      known: 'cannot be told',
      title: `The used-block map of ${names(untold)} cannot be checked here`,
      why: 'it is trusted; blocks it misses would be missing from the copy',
    })
  }
  return item({
    state: 'settled',
    title: 'Used-block maps match the files',
    why: parts.map((p) => p.title).join(', '),
  })
}

const names = (parts: ReadyFacts['source']['partitions']) => parts.map((p) => p.title).join(' and ')
