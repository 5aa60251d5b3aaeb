import type { DriveSurvey } from '../../survey/types'
import type { ReadyFacts, ReadyItem, ReadyKind } from '../port'

/** An unclean file system is the commonest cause of a copy found failed in the morning. */
export const clean: ReadyKind = (facts) => [itemFor(facts)]

type Part = DriveSurvey['partitions'][number]

const names = (parts: readonly Part[]) => parts.map((p) => p.title).join(' and ')

function itemFor({ source, surveyedAt, live, choices }: ReadyFacts): ReadyItem {
  const item = (rest: Pick<ReadyItem, 'state' | 'title' | 'why'> & Partial<ReadyItem>): ReadyItem => ({
    id: 'clean',
    known: `read ${surveyedAt}`,
    ...rest,
  })
  const dirty = source.partitions.filter((p) => p.volume?.state === 'dirty')
  const bad = source.partitions.filter((p) => p.findings.some((f) => f.severity === 'damage'))
  // What is taken sector by sector anyway leaves nothing out; a map that misses something has an item of its own.
  const damaged = bad.filter(
    (p) =>
      choices.read !== 'every' &&
      !choices.everyOf.includes(p.number) &&
      !p.volume?.everySector &&
      p.volume?.map !== 'missed',
  )
  if (damaged.length > 0) {
    return item({
      state: 'blocks',
      title: `${names(damaged)} cannot be read properly.`,
      why: 'A copy by used blocks would leave out what is not understood.',
      how: 'Have the file system repaired by its own system, then read the drive again in Survey; or take every sector of it, faults and all.',
      action: { id: 'take-every', label: 'Take every sector of it' },
    })
  }
  if (live && dirty.length > 0) {
    return item({
      state: 'settled',
      title: `${names(dirty)} is in use`,
      why: 'as of any system that runs; the copy is checked at its first start',
    })
  }
  if (dirty.length > 0) {
    return item({
      state: 'blocks',
      title: `${names(dirty)} was not closed cleanly.`,
      why: 'A copy would carry the fault along, and may stop half way.',
      how: 'Run the file-system check in the computer and shut it down, then read the drive again in Survey.',
      overridable: 'The copy will need the same check when it first starts.',
    })
  }
  const whole = bad.filter((p) => p.volume?.map !== 'missed')
  if (whole.length > 0) {
    const chosen = whole.every((p) => !p.volume?.everySector)
    return item({
      state: 'settled',
      title: `${names(whole)} is taken sector by sector, faults and all`,
      why: `${chosen ? 'as chosen' : 'its records do not tell what is used'}; it has to be repaired on the new drive`,
    })
  }
  // Of what is encrypted nobody can tell.
  const told = source.partitions.filter((p) => p.volume && !p.volume.encrypted)
  return item({ state: 'settled', title: 'File systems are clean', why: told.map((p) => p.title).join(', ') })
}
