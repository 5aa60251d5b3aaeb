import { copiedByMap } from '@/core/survey/copied-by-map'
import type { DriveSurvey } from '@/core/survey/types'
import { counted } from '@/core/words'
import { Refusal } from '../ground/refusals'
import { runningJobs, type StartedJob, stopJob } from '../jobs'
import { runTask } from '../jobs/threads'
import { leasableDrive } from '../leases'
import { driveBytes } from '../world'
import { startMoveJob } from './jobs'
import { note } from './logbook'
import { changeSurvey } from './survey'
import { loadMove } from '.'

const checkOf = (moveId: string) => runningJobs(moveId).findLast((job) => job.kind === 'map-check')

/** What is looked at now; undefined where nothing is. */
export function mapCheckProgress(moveId: string): { title: string; files: number } | undefined {
  const job = checkOf(moveId)
  return job && { title: job.about ?? '', files: job.done }
}

/**
 * Begins to hold the maps of used blocks of a move's sources against their files; what an earlier reading of the drives
 * began ends. What is found becomes part of the survey, unless the drives were read again meanwhile. Undefined where
 * there is no such map.
 */
export async function startMapChecks(moveId: string): Promise<StartedJob | undefined> {
  const { row, pairs, brief } = await loadMove(moveId)
  const { survey } = row
  if (!survey) throw new Refusal('no-survey')
  const earlier = checkOf(moveId)
  if (earlier) stopJob(earlier.id)
  const parts = survey.pairs.flatMap(({ source }) => source.partitions.filter(copiedByMap))
  if (parts.length === 0) return undefined
  const order = pairs.map(({ source }, i) => ({ bytes: driveBytes(source), survey: survey.pairs[i].source }))
  const started = await startMoveJob(moveId, {
    kind: 'map-check',
    title: `Check of the used-block maps for ${brief.name}`,
    purpose: 'a check of its used-block maps',
    lease: { mayBePulled: true, read: await Promise.all(pairs.map(({ source }) => leasableDrive(source))) },
    leaves: 'The maps are as unchecked as before.',
    stoppable: true,
    run: ({ signal, progress }) => {
      progress(0, 0, parts[0].title)
      const onProgress = (p: { done: number; title?: string }) => progress(p.done, 0, p.title)
      return runTask('checkDriveMaps', order, { signal, onProgress, long: true })
    },
    save: (surveys) => saveFindings(moveId, survey.at, surveys),
  })
  void started.ended.then(async ({ state, message }) => {
    if (state === 'failed') await note(moveId, `used-block maps not checked: ${message}`, 'bad')
  })
  return started
}

async function saveFindings(moveId: string, at: number, surveys: readonly DriveSurvey[]): Promise<void> {
  let stale = false
  await changeSurvey(moveId, (survey) => {
    stale = survey.at !== at
    return stale ? survey : { ...survey, pairs: survey.pairs.map((pair, i) => ({ ...pair, source: surveys[i] })) }
  })
  if (stale) return
  const volumes = surveys.flatMap((s) => s.partitions)
  const missed = volumes.filter((p) => p.volume?.map === 'missed')
  if (missed.length > 0) {
    const names = missed.map((p) => p.title).join(', ')
    await note(moveId, `the used-block map of ${names} misses blocks that files use`, 'bad')
    return
  }
  const checked = volumes.filter((p) => p.volume?.map === 'checked').length
  await note(moveId, `${counted(checked, 'used-block map')} checked against the files`, 'good')
}
