import { berthOf, driveName } from '@/bench/places'
import type { BenchState } from '@/bench/types'
import type { Brief } from '@/bench/scenario/moves'
import { formatDuration } from '@/core/bytes/size'
import type { BoardMove, RailStop } from '@/core/move/stations'
import { benchState } from './bench'
import { benchNow } from './clock'
import { latestCopy } from './copy/current'
import { database } from './database'
import { MoveRow } from './database/models'
import { logbook } from './logbook'
import { obstacleOf } from './move'
import { moveRail } from './move/rail'
import { clockTime, daysUntil } from './words'

/** Everything the board shows. */
export async function boardState() {
  await database()
  const bench = await benchState()
  const now = await benchNow()
  const moves: BoardMove[] = []
  for (const row of await MoveRow.findAll({ order: [['position', 'ASC']] })) {
    const copy = await latestCopy(row.id)
    const rail = moveRail(row, copy, bench)
    const { brief } = row
    moves.push({
      id: row.id,
      name: brief.name,
      customer: brief.customer,
      ...drivesOf(brief, bench),
      rail,
      ...statusOf(row, rail, copy, bench),
    })
  }
  const berths = bench.accessories.flatMap((accessory) =>
    accessory.bays.length === 0
      ? accessory.kind === 'stick'
        ? [{ name: sentenceCase(accessory.name), holds: accessory.detail, empty: false }]
        : []
      : accessory.bays.map((bay) => {
          const drive = bench.drives.find(
            (d) => d.place.kind === 'bay' && d.place.accessoryId === accessory.id && d.place.bay === bay.id,
          )
          const name = accessory.bays.length > 1 ? `${accessory.name}, ${bay.id}` : accessory.name
          return { name, holds: drive ? driveName(drive) : 'empty', empty: !drive }
        }),
  )
  const shelf = bench.drives
    .filter((d) => d.place.kind === 'shelf' && d.shelf)
    .map((d) => {
      const days = d.shelf!.until ? daysUntil(now, d.shelf!.until) : undefined
      return {
        name: d.shelf!.label,
        due: days === undefined ? 'until handover' : days > 0 ? `${days} days` : 'may be erased',
        past: days !== undefined && days <= 0,
      }
    })
  const lines = (await logbook(undefined, 8)).map((entry) => ({
    id: entry.id,
    time: clockTime(entry.at),
    tone: entry.tone,
    text: `${moves.find((m) => m.id === entry.moveId)?.name ?? ''}: ${entry.text}`,
  }))
  return { moves, berths, shelf, lines }
}

function drivesOf(brief: Brief, bench: BenchState): { from: string; to: string } {
  const drive = (id: string | null) => bench.drives.find((d) => d.id === id)
  const names = brief.sourceDriveIds.map((id) => (drive(id) ? driveName(drive(id)!) : 'a drive'))
  const from = names.length > 1 ? `${names.length} drives, ${names[0]} and ${names[1]}` : names[0]
  const target = drive(brief.targetDriveId)
  const where = target && berthOf(target.place, bench).name
  const to = brief.toVirtualMachine
    ? 'to a virtual machine'
    : target
      ? `to ${driveName(target)}, ${where}`
      : 'no target yet'
  return { from, to }
}

type Status = Pick<BoardMove, 'status' | 'tone' | 'when'>

function statusOf(
  row: MoveRow,
  rail: readonly RailStop[],
  copy: Awaited<ReturnType<typeof latestCopy>>,
  bench: BenchState,
): Status {
  const obstacle = obstacleOf(row.brief, bench)
  const promised = row.brief.promised
  if (obstacle) return { status: obstacle, tone: 'not-yet', when: promised }
  if (copy && (copy.status === 'running' || copy.status === 'paused')) {
    const { progress } = copy
    const share = progress
      ? Math.floor(((progress.copiedBytes + progress.checkedBytes) / (2 * progress.totalBytes)) * 100)
      : 0
    const verb = copy.status === 'paused' ? 'Paused' : progress?.phase === 'check' ? 'Reading back' : 'Copying'
    return { status: `${verb}, ${share} %`, tone: 'runs', when: progress ? formatDuration(progress.secondsLeft) : '' }
  }
  if (copy && ['failed', 'interrupted', 'stopped'].includes(copy.status)) {
    return {
      status: `Needs you: the copy ${copy.status === 'failed' ? 'failed' : 'was cut off'}`,
      tone: 'needs-you',
      when: promised,
    }
  }
  const current = rail.find((stop) => stop.state === 'current')
  if (!current) return { status: 'Handed over, old drive on the shelf', tone: 'done', when: '' }
  const asks: Record<string, string> = {
    intake: 'take it in',
    survey: 'read the drives',
    route: 'take a route',
    fit: 'lock the fit',
    ready: 'settle what is open',
    copy: 'start the copy',
    swap: 'swap the drives',
    proof: 'start it',
    handover: 'hand it over',
  }
  return { status: `Needs you: ${asks[current.id]}`, tone: 'needs-you', when: promised }
}

function sentenceCase(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1)
}
