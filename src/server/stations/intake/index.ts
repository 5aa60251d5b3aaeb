import { berthOf } from '@/core/things/bench'
import { hasBytes } from '@/core/things/drive'
import type { MoveRow } from '../../database/models'
import { Refusal } from '../../ground/refusals'
import type { StartedJob } from '../../jobs'
import { leasableDrive } from '../../leases'
import { saveStationResults, loadMove, type Move } from '../../moves'
import { refuseAfterCopy } from '../../moves/copies'
import { startMoveJob } from '../../moves/jobs'
import { benchNow } from '../../world/clock'
import { speedOf } from '../../world/measure'

/** Takes the facts of the move as right, so that the drives can be read. What is connected is measured first. */
export async function confirmIntake(moveId: string): Promise<StartedJob | undefined> {
  const move = await loadMove(moveId)
  if (move.row.intake) return undefined
  return measure(move, async (speeds) => {
    await saveStationResults(
      moveId,
      { intake: { at: await benchNow(), speeds } },
      `intake confirmed: ${move.brief.reason}`,
    )
  })
}

/** Measures the old drives again, as long as nothing was copied. */
export async function measureAgain(moveId: string): Promise<StartedJob> {
  const move = await loadMove(moveId)
  await refuseAfterCopy(moveId)
  if (measurable(move).length === 0) throw new Refusal('nothing-to-measure')
  return measure(move, async (speeds) => {
    const at = move.row.intake?.at ?? (await benchNow())
    await saveStationResults(moveId, { intake: { at, speeds } }, 'old drive measured')
  })
}

type Speeds = NonNullable<MoveRow['intake']>['speeds']

/** The sources that are connected and have bytes. */
const measurable = ({ pairs, bench }: Move) =>
  pairs.map((p) => p.source).filter((drive) => berthOf(drive, bench).link && hasBytes(drive))

/** Measures what every source does now. */
async function measure(move: Move, save: (speeds: Speeds) => Promise<void>): Promise<StartedJob> {
  const sources = measurable(move)
  return startMoveJob<Speeds>(move.id, {
    kind: 'measure',
    title: `Measurement for ${move.brief.name}`,
    purpose: `a measurement for ${move.brief.name}`,
    lease: { read: await Promise.all(sources.map(leasableDrive)) },
    leaves: 'Nothing was changed.',
    stoppable: true,
    async run({ signal, progress }) {
      const speeds: Speeds = {}
      for (const [i, source] of sources.entries()) {
        const speed = await speedOf(source, move.bench, signal)
        if (speed) speeds[source.id] = { ...speed, at: await benchNow() }
        progress(i + 1, sources.length)
      }
      return speeds
    },
    save,
  })
}
