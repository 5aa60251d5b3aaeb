import type { ReadyKind } from '../port'

/** A sleeping system has its open files in its hibernation file; started from a copy it would write over it all. */
export const asleep: ReadyKind = (facts) => [...onSource(facts), ...onTarget(facts)]

/** A system that sleeps wakes with what it knew of the other volumes of its drive, and would write by that. */
const onTarget: ReadyKind = ({ target, targetName, into, surveyedAt }) => {
  const sleeping = into ? (target?.partitions ?? []).filter((p) => p.idleFiles.some((f) => f.asleep)) : []
  if (!into || sleeping.length === 0) return []
  return [
    {
      id: 'asleep-target',
      state: 'blocks',
      known: `read ${surveyedAt}`,
      title: `A system sleeps on ${sleeping.map((p) => p.title).join(' and ')} of the ${targetName}.`,
      why: `It would wake with what it knew of partition ${into.partition}, and write over what was put there.`,
      how: 'Start it, shut it down fully (not to sleep, and without a fast start), then read the drive again in Survey.',
    },
  ]
}

const onSource: ReadyKind = ({ source, surveyedAt, live }) => {
  // A system that runs has woken.
  if (live) return []
  const sleeping = source.partitions.filter((p) => p.idleFiles.some((f) => f.asleep))
  if (sleeping.length === 0) return []
  return [
    {
      id: 'asleep',
      state: 'blocks',
      known: `read ${surveyedAt}`,
      title: `A system sleeps on ${sleeping.map((p) => p.title).join(' and ')}.`,
      why: 'What it had open is not on its volumes yet, and two copies of one sleep must not both wake.',
      how: 'Start it, shut it down fully (not to sleep, and without a fast start), then read the drive again in Survey.',
      overridable: 'The copy sleeps too. Only one of the two drives may ever be woken.',
    },
  ]
}
