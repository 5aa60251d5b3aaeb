import type { MoveRow } from '../database/models'
import { inMoveQueue } from '../ground/queue'
import { Refusal } from '../ground/refusals'
import { saveStationResults, moveRow } from '.'

type Survey = NonNullable<MoveRow['survey']>

/** Changes what is stored of a move's survey, one change after the other, so that none is lost. */
export async function changeSurvey(moveId: string, change: (survey: Survey) => Survey): Promise<void> {
  await inMoveQueue(moveId, async () => {
    const { survey } = await moveRow(moveId)
    if (!survey) throw new Refusal('no-survey')
    const changed = change(survey)
    if (changed !== survey) await saveStationResults(moveId, { survey: changed })
  })
}
