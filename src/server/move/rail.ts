import { berthOf } from '@/bench/places'
import { formatSize } from '@/core/bytes/size'
import { fitSizes } from '@/core/fit/solve'
import { railOf, type RailStop, type StationId } from '@/core/move/stations'
import type { CopyView } from '../copy/current'
import type { MoveRow } from '../database/models'
import type { BenchState } from '@/bench/types'

/** The rail of a move, from what its stations have left behind. */
export function moveRail(row: MoveRow, copy: CopyView | undefined, bench: BenchState): RailStop[] {
  const results: Partial<Record<StationId, string | true>> = {}
  if (row.intake) results.intake = row.brief.reason
  if (row.survey?.confirmed) results.survey = '2 drives read'
  if (row.route) results.route = routeNote(row, bench)
  if (row.fit) results.fit = fitNote(row.fit.layout)
  const started = copy && ['running', 'paused', 'done'].includes(copy.status)
  if (row.fit && started) results.ready = 'all settled'
  if (copy?.status === 'done' && copy.summary) results.copy = `${formatSize(copy.summary.copiedBytes)}, equal`
  if (row.swap && row.swap.done.length === row.swap.steps.length) results.swap = 'old drive out'
  const trial = row.proof?.trials.at(-1)
  if (results.swap && trial?.trace.starts && trial.subject === 'target' && trial.checks.every((c) => c.passed)) {
    results.proof = 'starts, all equal'
  }
  if (row.handover) results.handover = 'handed over'
  return railOf(results)
}

function routeNote(row: MoveRow, bench: BenchState): string {
  const target = bench.drives.find((d) => d.id === row.brief.targetDriveId)
  const from = row.route!.route.stops[2]?.sub ?? (target ? berthOf(target.place, bench).name : '')
  return `${from.split(',')[0]}, 1 leg`
}

function fitNote(layout: NonNullable<MoveRow['fit']>['layout']): string {
  const grown = layout.partitions.find((p) => p.rule === 'fill') ?? layout.partitions[0]
  const name = grown.role === 'system' ? 'C:' : grown.title
  return `${name} to ${formatSize(fitSizes(grown, layout.sectorSize).after)}`
}
