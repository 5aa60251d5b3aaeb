import { clockTime } from '../../ground/words'
import { mapCheckProgress } from '../../moves/map-checks'
import type { MovePage } from '../../moves/page'

export function surveyView({ move, plates, lines }: MovePage) {
  const { survey } = move.row
  return {
    survey: survey && { confirmed: survey.confirmed, read: clockTime(survey.at) },
    mapCheckProgress: mapCheckProgress(move.id),
    pairs: plates.map((p, i) => ({
      ...p,
      ...(move.pairs[i].volume === undefined ? {} : { volume: move.pairs[i].volume }),
      read: survey ? survey.pairs[i] : undefined,
      health: { source: move.pairs[i].source.health, target: move.pairs[i].target?.health },
    })),
    lines,
  }
}
