import { formatSize } from '@/core/bytes/size'
import { fitSizes } from '@/core/fit/types'
import { railOf, type RailStop, type StationId } from '@/core/move/stations'
import { lowerFirst } from '@/core/words'
import type { MoveRow } from '../database/models'
import { fitsLocked, hasStarted } from '.'
import type { Progress } from './legs'

/** The rail of a move, from what its stations have left behind. With several legs it tells which one it is in. */
export function moveRail(row: MoveRow, progress: Progress | undefined): RailStop[] {
  const results: Partial<Record<StationId, string | true>> = {}
  if (row.intake) results.intake = row.brief.reason
  if (row.survey?.confirmed) {
    const drives = row.survey.pairs.reduce((n, p) => n + (p.target ? 2 : 1), 0)
    results.survey = `${drives} ${drives === 1 ? 'drive' : 'drives'} read`
  }
  if (row.route && progress) results.route = routeNote(progress)
  if (fitsLocked(row)) results.fit = fitNote(row.fit!.pairs[0]!.layout)
  if (!fitsLocked(row) || !progress) return railOf(results)

  const { legs, copies, copied, phase, leg } = progress
  const copy = copies[leg]
  const started = copy && ['running', 'paused', 'done'].includes(copy.status)
  const between = copied < legs.length
  // Between two legs Swap comes before Ready: what hands do then belongs to the leg that was copied.
  const handsFirst = phase !== undefined && phase > 0
  if (started && !between) results.ready = 'all settled'
  if (between && (handsFirst || started)) results.ready = 'all settled'
  if (!between) results.copy = copyNote(progress)
  else if (handsFirst) results.copy = `leg ${copied} of ${legs.length} copied`
  if (!between && phase === undefined) results.swap = 'old drive out'
  const trial = row.proof?.trials.at(-1)
  if (results.swap && trial && hasStarted({ row })) {
    const followed =
      trial.trace.links.every((l) => l.state === 'passed') && trial.checks.every((c) => (c.open ?? []).length === 0)
    results.proof = followed ? 'starts, all equal' : 'starts, as far as seen'
  }
  if (row.handover) results.handover = 'handed over'
  const rail = railOf(results)
  if (legs.length === 1 || row.handover) return rail
  const shown = handsFirst ? phase : leg + 1
  return rail.map((stop) =>
    stop.state === 'current' && ['ready', 'copy', 'swap'].includes(stop.id)
      ? { ...stop, note: `leg ${Math.min(shown, legs.length)} of ${legs.length}` }
      : stop,
  )
}

/** Bytes that all finished legs copied. */
export function copiedBytes({ copies }: Progress): number {
  return copies.reduce((sum, c) => sum + (c?.summary?.copiedBytes ?? 0), 0)
}

function copyNote(progress: Progress): string {
  const lost = progress.copies.flatMap((c) => c?.summary?.lost ?? []).reduce((sum, run) => sum + run.sectors, 0)
  const unread = progress.copies.some((c) => c?.summary?.checkedBytes === 0)
  const result = lost > 0 ? `${lost} sectors lost` : unread ? 'not read back' : 'equal'
  return `${formatSize(copiedBytes(progress))}, ${result}`
}

function routeNote({ plan, legs }: Progress): string {
  const [title] = plan.title.split(',')
  const words = lowerFirst(title)
  return words.startsWith('two legs') ? words : `${words}, ${legs.length} ${legs.length === 1 ? 'leg' : 'legs'}`
}

function fitNote(layout: NonNullable<NonNullable<MoveRow['fit']>['pairs'][number]>['layout']): string {
  const { partitions } = layout
  const grown =
    partitions.find((p) => p.rule === 'fill') ?? partitions.find((p) => p.role === 'system') ?? partitions[0]
  const name = /\(([A-Z]:)\)$/.exec(grown.title)?.[1] ?? grown.title
  return `${name} to ${formatSize(fitSizes(grown, layout).after)}`
}
