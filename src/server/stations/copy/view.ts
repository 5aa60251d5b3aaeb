import { copyShare } from '@/core/copy/progress'
import type { DriveSurvey } from '@/core/survey/types'
import { sureIn } from '@/host/journal-file'
import { clockTime } from '../../ground/words'
import { moveRow, plateOf } from '../../moves'
import { journalOf, running } from '../../moves/copies'
import { mediumRead, mediumWritten } from '../../moves/legs'
import { type Medium, mediumPlate } from '../../moves/media'
import { benchNow } from '../../world/clock'
import type { MovePage } from '../../moves/page'

export async function copyView({ move, copy, progress, lines }: MovePage) {
  const { survey } = move.row
  // After a leg its summary stays until the next one begins.
  const shown = copy ?? progress!.copies[progress!.copied - 1]!
  const { transfer } = progress!.legs[shown.leg]
  const to = mediumWritten(move, transfer, shown.leg)
  const { source } = survey!.pairs[transfer.pair]
  return {
    copy: shown,
    /** Of one that was cut off, what its journal names. */
    sure: shown.resumable ? await sureIn(journalOf(shown.id)) : undefined,
    started: clockTime(shown.startedAt),
    ended: shown.endedAt === null ? null : clockTime(shown.endedAt),
    startedAt: shown.startedAt,
    benchNow: await benchNow(),
    legNumber: shown.leg + 1,
    legs: progress!.legs.length,
    /** Hands have something to do before the next leg, or after the last. */
    handsNext: progress!.phase !== undefined || progress!.copied === progress!.legs.length,
    source: mediumPlate(mediumRead(move, progress!.legs, shown.leg), move.bench),
    target: mediumPlate(to, move.bench),
    /** Where what was written is looked into, read only; null where it lies in a folder of another drive. */
    lookAt: lookAt(to),
    profile: profileOf(source, move.pairs[transfer.pair].volume),
    sourceBytes: source.sizeBytes,
    sourceSectorSize: source.logicalSectorSize,
    leg: transfer,
    lines,
    others: await othersCopying(move.id),
    canRetry:
      to.kind === 'drive' && shown.status === 'done' && (move.row.swap?.phases[shown.leg + 1]?.done.length ?? 0) === 0,
    further: shown.choices.further.flatMap((id) =>
      move.bench.drives.filter((d) => d.id === id).map((d) => plateOf(d, move.bench)),
    ),
  }
}

/** What is used where, of the one volume alone that is copied. */
function profileOf({ profile, partitions, sizeBytes }: DriveSurvey, volume: number | undefined): readonly number[] {
  const part = partitions.find((p) => p.number === volume)
  if (!part) return profile
  const bucket = sizeBytes / profile.length
  return profile.map((share, i) => {
    const isIn = (i + 1) * bucket > part.startBytes && i * bucket < part.startBytes + part.sizeBytes
    return isIn ? share : 0
  })
}

function lookAt(medium: Medium): string | null {
  if (medium.kind === 'drive') return `/drives/${medium.drive.id}`
  return medium.store.kind === 'host' ? `/images/${encodeURIComponent(medium.name)}` : null
}

/** Copies of other moves that run now. */
async function othersCopying(moveId: string) {
  const found = []
  for (const copy of running().values()) {
    if (copy.moveId === moveId) continue
    const { brief } = await moveRow(copy.moveId)
    const { moveId: id, progress } = copy
    const words = progress ? `${Math.floor(copyShare(progress) * 100)} %` : 'beginning'
    found.push({ moveId: id, title: brief.name, words })
  }
  return found
}
