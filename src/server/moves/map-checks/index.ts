import { copiedByMap } from '@/core/survey/copied-by-map'
import type { DriveSurvey } from '@/core/survey/types'
import { counted } from '@/core/words'
import { publish } from '../../ground/events'
import { log } from '../../ground/log'
import { Refusal } from '../../ground/refusal'
import { singleton } from '../../ground/singleton'
import { leasableDrive, withLease } from '../../leases'
import { driveBytes } from '../../world'
import { loadMove } from '..'
import { note } from '../logbook'
import { checkDrivesApart } from './checking-apart'
import { changeSurvey } from './stored'

interface MapCheck {
  readonly abort: AbortController
  title: string
  files: number
}

/** Those that run, by move. */
const checks = () => singleton('map-checks', () => new Map<string, MapCheck>())

/** What is looked at now; undefined where nothing is. */
export function mapCheckProgress(moveId: string): { title: string; files: number } | undefined {
  const check = checks().get(moveId)
  return check && { title: check.title, files: check.files }
}

/**
 * Begins to hold the maps of used blocks of a move's sources against their files; what an earlier reading of the drives
 * began ends. What is found becomes part of the survey, unless the drives were read again meanwhile. The promise that
 * comes back is of the beginning; `ended` of what it returns is of the end.
 */
export async function startMapChecks(moveId: string): Promise<{ ended: Promise<void> }> {
  const { row, pairs } = await loadMove(moveId)
  const { survey } = row
  if (!survey) throw new Refusal('The drives have not been read yet.')
  checks().get(moveId)?.abort.abort()
  checks().delete(moveId)
  const parts = survey.pairs.flatMap(({ source }) => source.partitions.filter(copiedByMap))
  if (parts.length === 0) return { ended: Promise.resolve() }
  const order = pairs.map(({ source }, i) => ({ bytes: driveBytes(source), survey: survey.pairs[i].source }))
  const check: MapCheck = { abort: new AbortController(), title: parts[0].title, files: 0 }
  checks().set(moveId, check)
  publish({ type: 'changed', moveId })
  const isLatest = () => checks().get(moveId) === check
  const onLooked = (title: string, files: number) => {
    if (!isLatest()) return
    Object.assign(check, { title, files })
    publish({ type: 'maps', moveId, title, files })
  }
  const run = async () => {
    try {
      const read = await Promise.all(pairs.map(({ source }) => leasableDrive(source)))
      const request = { purpose: 'a check of its used-block maps', mayBePulled: true, read }
      const surveys = await withLease(request, () => checkDrivesApart(order, onLooked, check.abort.signal))
      if (isLatest()) await saveFindings(moveId, survey.at, surveys)
    } catch (error) {
      if (!isLatest()) return
      const why = error instanceof Refusal ? error.message : 'It ended unexpectedly.'
      if (!(error instanceof Refusal)) log.error(error)
      await note(moveId, `used-block maps not checked: ${why}`, 'bad')
    } finally {
      if (isLatest()) checks().delete(moveId)
      publish({ type: 'changed', moveId })
    }
  }
  return { ended: run().catch((error: unknown) => log.error(error)) }
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
    await note(
      moveId,
      `the used-block map of ${missed.map((p) => p.title).join(', ')} misses blocks that files use`,
      'bad',
    )
    return
  }
  const checked = volumes.filter((p) => p.volume?.map === 'checked').length
  await note(moveId, `${counted(checked, 'used-block map')} checked against the files`, 'good')
}
