import { surveyDrive } from '@/core/survey/survey'
import { withDrive } from '../bench'
import { benchNow } from '../clock'
import { refuseAfterCopy } from '../copy/current'
import { sha256 } from '../digest'
import { note } from '../logbook'
import { keep, loadMove } from '../move'
import { Refusal } from '../refusal'

/** Reads both drives. A fit that was locked by an earlier reading is let go. */
export async function readDrives(moveId: string): Promise<void> {
  const move = await loadMove(moveId)
  if (!move.row.intake) throw new Refusal('Finish Intake first.')
  await refuseAfterCopy(moveId)
  const [source, target] = await Promise.all(
    [move.source, move.target].map((drive) => withDrive(drive, (device) => surveyDrive(device, sha256))),
  )
  await keep(moveId, { survey: { at: await benchNow(), source, target, confirmed: false }, route: null, fit: null })
  await note(moveId, 'two drives read')
}

/** Takes the survey as the ground for everything that follows. */
export async function confirmSurvey(moveId: string): Promise<void> {
  const { row } = await loadMove(moveId)
  if (!row.survey) throw new Refusal('The drives have not been read yet.')
  await keep(moveId, { survey: { ...row.survey, confirmed: true } })
}
