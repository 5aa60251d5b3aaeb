import { groupDigits } from '../../bytes/size'
import { goesByMap } from '../../survey/goes-by-map'
import type { ReadyFacts, ReadyItem, ReadyKind } from '../port'

/** A map that misses what files use makes a copy with holes, which nobody sees before such a file is opened. */
export const maps: ReadyKind = ({ source, choices, surveyedAt, mapsBeing, resized }) => {
  if (choices.read === 'every') return []
  const parts = source.partitions.filter((p) => goesByMap(p) && !choices.everyOf.includes(p.number))
  if (parts.length === 0) return []
  const item = (rest: Pick<ReadyItem, 'state' | 'title' | 'why'> & Partial<ReadyItem>): ReadyItem[] => [
    { id: 'maps', known: `read ${surveyedAt}`, ...rest },
  ]
  const missed = parts.filter((p) => p.volume?.map === 'missed')
  const changed = missed.filter((p) => resized.includes(p.number))
  if (changed.length > 0) {
    return item({
      state: 'blocks',
      title: `${names(changed)} cannot change its size.`,
      why: 'Its map of used blocks misses some that its files use.',
      how: 'Keep its size in Fit, or have its own system check it and read the drive again in Survey.',
    })
  }
  const unchecked = parts.filter((p) => p.volume?.map === undefined)
  if (unchecked.length > 0 && choices.mapsUnchecked) {
    return item({
      state: 'settled',
      known: 'as chosen',
      title: `The map of used blocks of ${names(unchecked)} is believed`,
      why: 'what it misses would be missing in the copy',
      how: 'It can be held against the files all the same.',
      action: { id: 'check-maps', label: 'Check it' },
    })
  }
  if (unchecked.length > 0 && mapsBeing) {
    return item({
      state: 'open',
      known: 'running',
      title: 'Maps of used blocks are being held against the files.',
      why: `${groupDigits(mapsBeing.files)} files of ${mapsBeing.title} were looked at so far.`,
      how: 'The copy can do without, which its summary will say.',
      action: { id: 'believe-maps', label: 'Believe the maps' },
    })
  }
  if (unchecked.length > 0) {
    return item({
      state: 'open',
      known: 'not done',
      title: `The map of used blocks of ${names(unchecked)} was not held against its files.`,
      why: 'What it misses would be missing in the copy.',
      how: 'Reading all its records tells.',
      action: { id: 'check-maps', label: 'Check it' },
      overridable: 'What the map misses would be missing in the copy.',
    })
  }
  const untold = parts.filter((p) => p.volume?.map === 'unchecked')
  if (untold.length > 0) {
    return item({
      state: 'settled',
      known: 'cannot be told',
      title: `The map of used blocks of ${names(untold)} is believed`,
      why: 'it cannot be held against the files here; what it misses would be missing in the copy',
    })
  }
  if (missed.length > 0) {
    return item({
      state: 'settled',
      title: `The map of ${names(missed)} misses blocks that its files use`,
      why: 'what either has is copied, and its size is kept; its own system has to check it',
    })
  }
  return item({
    state: 'settled',
    title: 'Maps of used blocks agree with the files',
    why: parts.map((p) => p.title).join(', '),
  })
}

const names = (parts: ReadyFacts['source']['partitions']) => parts.map((p) => p.title).join(' and ')
