import { type BlockDevice, type Extent, UnreadableSectors } from './device'
import { unionExtents } from './extents'

/** How far reading around trouble goes. */
export interface RescueLimits {
  /** How often a single sector is tried before it is given up. */
  readonly tries: number
  /** Asked before every try at a stretch that holds trouble; false gives up what is left of it, without trying. */
  readonly goOn?: () => boolean | Promise<boolean>
}

export const USUAL_LIMITS: RescueLimits = { tries: 2 }

/** A run of bytes that stays lost; `tried`: sector by sector, and not given up before. */
export interface LostExtent extends Extent {
  readonly tried: boolean
}

/**
 * Fills `into` from a device that does not give all of it: from both edges inwards in ever smaller pieces down to
 * single sectors, so that what reads well is read first. What does not read is left as zeros and returned, in order,
 * as runs of bytes of the device.
 */
export async function readAround(
  device: BlockDevice,
  offset: number,
  into: Uint8Array,
  { tries, goOn }: RescueLimits = USUAL_LIMITS,
): Promise<LostExtent[]> {
  const sector = device.logicalSectorSize
  into.fill(0)
  const lost: Extent[] = []
  const untried: Extent[] = []
  const part = (from: number, to: number) => into.subarray(from - offset, to - offset)
  // Each stretch is known to hold something that does not read; the pieces it is tried in become smaller.
  const stretches: { from: number; to: number; step: number }[] = [
    { from: offset, to: offset + into.length, step: stepFor(into.length, sector) },
  ]
  for (let stretch = stretches.pop(); stretch; stretch = stretches.pop()) {
    let { from, to } = stretch
    const { step } = stretch
    if (goOn && !(await goOn())) {
      untried.push({ offset: from, length: to - from })
      continue
    }
    if (to - from === sector) {
      if (!(await readsAtLast(device, from, part(from, to), tries))) lost.push({ offset: from, length: sector })
      continue
    }
    while (from < to && (await reads(device, from, part(from, Math.min(to, from + step)))))
      from = Math.min(to, from + step)
    while (from < to && (await reads(device, Math.max(from, to - step), part(Math.max(from, to - step), to)))) {
      to = Math.max(from, to - step)
    }
    if (from >= to) continue
    if (step === sector) {
      // Both edges are single sectors that do not read; between them lies what was not tried.
      const edges = to - from > sector ? [from, to - sector] : [from]
      for (const edge of edges) {
        if (!(await readsAtLast(device, edge, part(edge, edge + sector), tries)))
          lost.push({ offset: edge, length: sector })
      }
      if (to - from > 2 * sector) stretches.push({ from: from + sector, to: to - sector, step })
    } else {
      // Each edge piece fails as a whole: looked into by itself, so that the middle is not cut finer than it needs.
      const smaller = stepFor(step, sector)
      if (to - from <= 2 * step) stretches.push({ from, to, step: smaller })
      else {
        stretches.push({ from: from + step, to: to - step, step })
        stretches.push({ from: to - step, to, step: smaller }, { from, to: from + step, step: smaller })
      }
    }
  }
  const runs = (extents: readonly Extent[], tried: boolean) => unionExtents(extents, []).map((e) => ({ ...e, tried }))
  return [...runs(lost, true), ...runs(untried, false)].sort((a, b) => a.offset - b.offset)
}

function stepFor(length: number, sector: number): number {
  return Math.max(sector, Math.floor(length / 16 / sector) * sector)
}

/** True when the stretch was read; a device that is gone, or any other failure, is thrown on. */
async function reads(device: BlockDevice, offset: number, into: Uint8Array): Promise<boolean> {
  try {
    await device.read(offset, into)
    return true
  } catch (error) {
    if (!(error instanceof UnreadableSectors)) throw error
    into.fill(0)
    return false
  }
}

async function readsAtLast(device: BlockDevice, offset: number, into: Uint8Array, tries: number): Promise<boolean> {
  for (let i = 0; i < tries; i++) if (await reads(device, offset, into)) return true
  return false
}
