import type { DriveSurvey } from '../../survey/types'
import type { ReadyFacts, ReadyItem, ReadyKind } from '../port'

/** An unclean file system is the commonest cause of a copy found failed in the morning. */
export const clean: ReadyKind = (facts) => [itemFor(facts)]

function itemFor({ source, surveyedAt, live, choices }: ReadyFacts): ReadyItem {
  const known = `read ${surveyedAt}`
  const dirty = source.partitions.filter((p) => p.volume?.state === 'dirty')
  const whole = (p: DriveSurvey['partitions'][number]) => choices.read === 'every' || choices.everyOf.includes(p.number)
  const bad = source.partitions.filter((p) => p.findings.some((f) => f.severity === 'damage'))
  const damaged = bad.filter((p) => !whole(p))
  if (damaged.length > 0) {
    return {
      id: 'clean',
      state: 'blocks',
      known,
      title: `${damaged.map((p) => p.title).join(' and ')} cannot be read properly.`,
      why: 'A copy by used blocks would leave out what is not understood.',
      how: 'Have the file system repaired by its own system, then read the drive again in Survey; or take every sector of it, faults and all.',
    }
  }
  if (live && dirty.length > 0) {
    return {
      id: 'clean',
      state: 'settled',
      known,
      title: `${dirty.map((p) => p.title).join(' and ')} is in use`,
      why: 'as of any system that runs; the copy is checked at its first start',
    }
  }
  if (dirty.length > 0) {
    return {
      id: 'clean',
      state: 'blocks',
      known,
      title: `${dirty.map((p) => p.title).join(' and ')} was not closed cleanly.`,
      why: 'A copy would carry the fault along, and may stop half way.',
      how: 'Run the file-system check in the computer and shut it down, then read the drive again in Survey.',
      overridable: 'The copy will need the same check when it first starts.',
    }
  }
  if (bad.length > 0) {
    return {
      id: 'clean',
      state: 'settled',
      known,
      title: `${bad.map((p) => p.title).join(' and ')} is taken sector by sector, faults and all`,
      why: 'as chosen; it has to be repaired on the new drive',
    }
  }
  // Of what is encrypted nobody can tell.
  const names = source.partitions.filter((p) => p.volume && !p.volume.encrypted).map((p) => p.title)
  return { id: 'clean', state: 'settled', known, title: 'File systems are clean', why: names.join(', ') }
}
