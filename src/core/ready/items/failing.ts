import { healthVerdict } from '../../health/health'
import type { ReadyKind } from '../port'

/** A source that is going: what it reports, and how the copy will treat it. */
export const failing: ReadyKind = ({ sourceHealth, sourceName, choices }) => {
  const verdict = sourceHealth && healthVerdict(sourceHealth)
  if (verdict?.state !== 'failing') return []
  const limit = choices.rescueMinutes === null ? 'for as long as it takes' : `for ${choices.rescueMinutes} min at most`
  return [
    {
      id: 'failing',
      state: 'settled',
      known: 'its own report',
      title: `The ${sourceName} is failing`,
      why: `${verdict.reason} What reads well goes first, then around the trouble ${limit}; what stays lost is named.`,
    },
  ]
}
