import { driveName } from '@/core/things/drive'
import { Refusal } from '../../ground/refusals'
import type { StartedJob } from '../../jobs'
import { runTask } from '../../jobs/threads'
import { leasableDrive } from '../../leases'
import { saveStationResults, loadMove } from '../../moves'
import { refuseAfterCopy } from '../../moves/copies'
import { startMoveJob } from '../../moves/jobs'
import { startMapChecks } from '../../moves/map-checks'
import { changeSurvey } from '../../moves/survey'
import { driveSubject } from '../../world'
import { benchNow } from '../../world/clock'

/** Reads all drives of a move, and begins to hold their maps of used blocks against the files. A route and a fit that rest on an earlier reading are let go. */
export async function readDrives(moveId: string): Promise<StartedJob> {
  const move = await loadMove(moveId)
  if (!move.row.intake) throw new Refusal('no-intake')
  await refuseAfterCopy(moveId)
  const drives = move.pairs.flatMap((p) => [p.source, ...(p.target ? [p.target] : [])])
  const subjects = new Map(drives.map((drive) => [drive.id, driveSubject(drive)]))
  return startMoveJob(moveId, {
    kind: 'survey',
    title: `Survey for ${move.brief.name}`,
    purpose: `the survey for ${move.brief.name}`,
    lease: { read: await Promise.all(drives.map(leasableDrive)) },
    leaves: 'The survey is as it was before.',
    stoppable: true,
    async run({ signal, progress }) {
      let read = 0
      const surveyOf = async (drive: (typeof drives)[number]) => {
        const survey = await runTask('surveySubject', subjects.get(drive.id)!, { signal, long: true })
        progress(++read, drives.length, driveName(drive))
        return survey
      }
      return Promise.all(
        move.pairs.map(async ({ source, target }) => {
          const [of, to] = await Promise.all([surveyOf(source), target ? surveyOf(target) : null])
          return { source: of, target: to }
        }),
      )
    },
    async save(pairs) {
      const at = await benchNow()
      const results = { survey: { at, pairs, confirmed: false }, route: null, fit: null, swap: null }
      const line = `${drives.length === 1 ? 'one drive' : `${drives.length} drives`} read`
      await saveStationResults(moveId, results, line)
      await startMapChecks(moveId)
    },
  })
}

/** Takes the survey as the ground for everything that follows. */
export async function confirmSurvey(moveId: string): Promise<void> {
  await changeSurvey(moveId, (survey) => ({ ...survey, confirmed: true }))
}
