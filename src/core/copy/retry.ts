import { type BlockDevice, isZero } from '../block/device'
import { partsOf } from '../block/extents'
import { sameBytes } from '../bytes/same'
import { CheckFailed } from './check'
import { nameLost } from './lost'
import { PIECE_BYTES } from './division'
import type { CopyPlan } from './plan'
import type { Lost } from './progress'
import { type LostExtent, readAround, type RescueLimits, USUAL_LIMITS } from '../block/read-around'

/** What another pass over lost sectors came to. */
export interface RetryOutcome {
  /** Bytes that were lost before and are on the target now. */
  readonly wonBytes: number
  /** What is still lost. */
  readonly lost: readonly Lost[]
}

/** Where lost sectors are on the target of a plan, in bytes. */
export function lostExtents(
  lost: readonly Lost[],
  plan: Pick<CopyPlan, 'sourceSectorSize' | 'expected'>,
): LostExtent[] {
  return lost.map((run) => ({
    offset: run.targetLba * plan.expected.logicalSectorSize,
    length: run.sectors * plan.sourceSectorSize,
    tried: run.tried,
  }))
}

/**
 * Reads only what an earlier copy lost, once more, and writes what it now gives to the finished target, reading it
 * back. Nothing else of the target is touched. Throws CheckFailed when the target does not give it back.
 */
export async function retryLost(
  plan: CopyPlan,
  target: BlockDevice,
  lost: readonly Lost[],
  limits: RescueLimits = USUAL_LIMITS,
): Promise<RetryOutcome> {
  const left: LostExtent[] = []
  let wonBytes = 0
  for (const run of lostExtents(lost, plan)) {
    for (const { offset: at, length } of partsOf(run, PIECE_BYTES)) {
      const now = new Uint8Array(length)
      await target.read(at, now)
      // Whoever has used the target since may have written there; what is theirs stays.
      if (!isZero(now)) {
        left.push({ offset: at, length, tried: run.tried })
        continue
      }
      const bytes = new Uint8Array(length)
      const still = await readAround(plan.expected, at, bytes, limits)
      left.push(...still)
      const won = bytes.length - still.reduce((sum, e) => sum + e.length, 0)
      if (won === 0) continue
      wonBytes += won
      await target.write(at, bytes)
      await target.flush()
      await target.uncache?.()
      const back = new Uint8Array(bytes.length)
      await target.read(at, back)
      if (!sameBytes(bytes, back)) {
        throw new CheckFailed([{ offset: at, length: bytes.length }], target.logicalSectorSize)
      }
    }
  }
  return { wonBytes, lost: await nameLost(plan, left) }
}
