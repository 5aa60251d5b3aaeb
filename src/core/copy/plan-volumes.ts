import type { BlockDevice } from '../block/device'
import { CoreError } from '../errors'
import { solveFit } from '../fit/solve'
import type { Layout } from '../fit/types'
import type { DriveSurvey } from '../survey/types'
import type { IdleKind } from './idle-kinds'
import { type CopyPlan, planCopy } from './plan'

/** The source has no partition of a number that was asked for. */
export class NoSuchPartition extends CoreError {
  override readonly name = 'NoSuchPartition'
  constructor(readonly partition: number) {
    super(`There is no partition ${partition} on the source.`)
  }
}

/** Partitions that an image can be made of, by number. */
export const capturable = ({ partitions }: DriveSurvey) =>
  partitions.filter((p) => p.role !== 'extended').map((p) => p.number)

/**
 * Plans an image of some volumes of a drive, of its size: these where they are, with a table that names them and no
 * others. Throws NoSuchPartition, and CoreError where they cannot be laid out.
 */
export async function planVolumes(
  source: BlockDevice,
  survey: DriveSurvey,
  volumes: readonly number[],
  leaveOut: readonly IdleKind[],
): Promise<{ plan: CopyPlan; layout: Layout }> {
  const all = capturable(survey)
  const strange = volumes.find((n) => !all.includes(n))
  if (strange !== undefined) throw new NoSuchPartition(strange)
  const target = { sizeBytes: survey.sizeBytes, logicalSectorSize: survey.logicalSectorSize }
  const wish = { rules: {}, sizes: {}, reserve: 0, leaveOut: all.filter((n) => !volumes.includes(n)) }
  const result = solveFit(survey, target, wish)
  if (!result.fits) throw new CoreError(result.obstacles[0].sentence)
  return { plan: await planCopy(source, result.layout, { leaveOut }), layout: result.layout }
}
