import { surveyDrive } from '@/core/survey/survey'
import type { Drive } from '@/core/things/drive'
import { sha256 } from '@/host/sha256'
import { Refusal } from '../../ground/refusal'
import { leasableDrive, withLease } from '../../leases'
import { keep, loadMove } from '../../moves'
import { refuseAfterCopy } from '../../moves/copies'
import { note } from '../../moves/logbook'
import { startMapChecks } from '../../moves/map-checks'
import { changeSurvey } from '../../moves/map-checks/stored'
import { withDrive } from '../../world'
import { benchNow } from '../../world/clock'

/** Reads all drives of a move, and begins to hold their maps of used blocks against the files. A route and a fit that rest on an earlier reading are let go. */
export async function readDrives(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  if (!move.row.intake) throw new Refusal('Finish Intake first.')
  await refuseAfterCopy(moveId)
  const read = (drive: Drive) => withDrive(drive, (device) => surveyDrive(device, sha256))
  const drives = move.pairs.flatMap((p) => [p.source, ...(p.target ? [p.target] : [])])
  const request = { purpose: `the survey for ${move.brief.name}`, read: await Promise.all(drives.map(leasableDrive)) }
  const pairs = await withLease(request, () =>
    Promise.all(
      move.pairs.map(async ({ source, target }) => {
        const [of, to] = await Promise.all([read(source), target ? read(target) : null])
        return { source: of, target: to }
      }),
    ),
  )
  const at = await benchNow()
  await keep(moveId, { survey: { at, pairs, confirmed: false }, route: null, fit: null, swap: null })
  await note(moveId, `${drives.length === 1 ? 'one drive' : `${drives.length} drives`} read`)
  await startMapChecks(moveId)
}

/** Takes the survey as the ground for everything that follows. */
export async function confirmSurvey(moveId: string): Promise<void> {
  await changeSurvey(moveId, (survey) => ({ ...survey, confirmed: true }))
}
