import { literal } from 'sequelize'
import * as z from 'zod'
import { formatDuration } from '@/core/bytes/size'
import { copyShare } from '@/core/copy/progress'
import type { Brief } from '@/core/intake/brief'
import { type BoardMove, railOf, type RailStop } from '@/core/move/stations'
import { baysOf } from '@/core/things/accessory'
import { type BenchState, berthOf, driveIn } from '@/core/things/bench'
import { driveName } from '@/core/things/drive'
import { lowerFirst, upperFirst } from '@/core/words'
import { database } from '../database'
import { copiesVersion, MoveRow, movesVersion, thingsVersion } from '../database/models'
import { log } from '../ground/log'
import { singleton } from '../ground/singleton'
import { unfinishedUploads } from '../images/upload'
import { clockTime, daysUntil, promiseWords } from '../ground/words'
import { moveOf, obstacleOf, whatIsGone } from '../moves'
import { moveClaims, movesFrom, staysInside } from '../moves/claims'
import { running } from '../moves/copies'
import { progressOf, type Progress } from '../moves/legs'
import { logbook } from '../moves/logbook'
import { planProblem } from '../moves/plan-problem'
import { moveRail } from '../moves/rail'
import { activeBench, benchState } from '../world'
import { benchNow } from '../world/clock'
import { seriesOfBench } from './series'

/** So many moves are shown at once; the others are found by name. */
const MOST_MOVES = 60

export const BoardQuerySchema = z.object({ find: z.string().trim().max(80).default('').catch('') })

/** Everything the board shows; of the moves those whose names and drives hold what is looked for. What is done comes last. */
export async function boardState(find = '') {
  await database()
  const { id: benchId, name: benchName } = await activeBench()
  const bench = await benchState(benchId)
  const now = await benchNow()
  const moves = await entriesOf(benchId, bench)
  const totals = { 'needs-you': 0, runs: 0, done: 0, 'not-yet': 0 }
  for (const { tone } of moves) totals[tone]++
  const words = find.toLowerCase().split(/\s+/).filter(Boolean)
  const isFound = ({ name, customer, from, to }: BoardMove) => {
    const text = [name, customer, from, to].join('\n').toLowerCase()
    return words.every((word) => text.includes(word))
  }
  const found = moves.filter(isFound).sort((a, b) => Number(a.tone === 'done') - Number(b.tone === 'done'))
  const shown = found.slice(0, MOST_MOVES)
  const berths = bench.accessories.flatMap((accessory) => {
    if (accessory.kind === 'stick') {
      return [{ name: upperFirst(accessory.name), holds: accessory.detail, empty: false }]
    }
    return baysOf(accessory).map((bay) => {
      const drive = driveIn(bench, { kind: 'bay', accessoryId: accessory.id, bay: bay.id })
      const name = baysOf(accessory).length > 1 ? `${accessory.name}, ${bay.id}` : accessory.name
      return { name, holds: drive ? driveName(drive) : 'empty', empty: !drive }
    })
  })
  const claims = await moveClaims(benchId)
  const shelf = bench.drives
    .filter((d) => d.shelf && (d.place.kind === 'shelf' || staysInside(d, movesFrom(d.id, claims))))
    .map((d) => {
      const days = d.shelf!.until ? daysUntil(now, d.shelf!.until) : undefined
      return {
        name: d.shelf!.label,
        due: days === undefined ? 'until handover' : days > 0 ? `${days} days` : 'may be erased',
        past: days !== undefined && days <= 0,
      }
    })
  const entries = await logbook(undefined, 8)
  const names = await namesOf(entries.map((entry) => entry.moveId))
  const lines = entries.map((entry) => ({
    id: entry.id,
    time: clockTime(entry.at),
    tone: entry.tone,
    text: [names.get(entry.moveId), entry.text].filter(Boolean).join(': '),
  }))
  const first = moves.find((m) => m.tone === 'needs-you') ?? null
  return {
    bench: benchName,
    moves: shown,
    find,
    hidden: found.length - shown.length,
    totals,
    first,
    berths,
    shelf,
    lines,
    series: await seriesOfBench(benchId),
    unfinished: await unfinishedUploads(),
    /** Whether there is anything on the bench to move. */
    bare: bench.computers.length === 0,
  }
}

/** The names of moves by their id, those that were given up too. */
async function namesOf(ids: readonly string[]): Promise<ReadonlyMap<string, string>> {
  const rows = await MoveRow.findAll({ where: { id: [...new Set(ids)] }, attributes: ['id', 'brief'] })
  return new Map(
    rows.flatMap((row) => {
      try {
        return [[row.id, row.brief.name] as const]
      } catch {
        // The board says of the move itself that it cannot be read.
        return []
      }
    }),
  )
}

interface Entries {
  readonly key: string
  readonly all: Promise<readonly BoardMove[]>
}

const entriesMade = () => singleton('board-entries', () => new Map<string, Entries>())

/** All moves of a bench as the board tells them. Made once for each state of moves, copies and things; of a running copy every time. */
async function entriesOf(benchId: string, bench: BenchState): Promise<readonly BoardMove[]> {
  const key = [movesVersion(), copiesVersion(), thingsVersion()].join()
  const before = entriesMade().get(benchId)
  const entries =
    before?.key === key ? before : { key, all: boardRows(benchId).then((rows) => entriesFor(rows, bench)) }
  entriesMade().set(benchId, entries)
  const all = await entries.all.catch((error: unknown) => {
    entriesMade().delete(benchId)
    throw error
  })
  const copying = all.filter((entry) => running().has(entry.id)).map((entry) => entry.id)
  if (copying.length === 0) return all
  const now = await entriesFor(await boardRows(benchId, copying), bench)
  return all.map((entry) => now.find((newer) => newer.id === entry.id) ?? entry)
}

async function entriesFor(rows: readonly MoveRow[], bench: BenchState): Promise<BoardMove[]> {
  const entries: BoardMove[] = []
  for (const row of rows) {
    try {
      if (row.standing?.kind === 'given-up') continue
      entries.push(await entryOf(row, bench))
    } catch (error) {
      // What is stored of one move and cannot be read keeps nobody from the others.
      log.error(error)
      entries.push(unreadable(row))
    }
  }
  return entries
}

/** The rows of a bench's moves, without what is long and the board does not tell. */
async function boardRows(benchId: string, ids?: readonly string[]): Promise<MoveRow[]> {
  return MoveRow.findAll({
    where: { benchId, ...(ids ? { id: [...ids] } : {}) },
    order: [['position', 'ASC']],
    attributes: [
      ...['id', 'benchId', 'brief', 'route', 'swap', 'handover', 'standing', 'surveyNote', 'fitNote', 'proofNote'],
      [literal('intake IS NOT NULL'), 'takenIn'],
    ],
  })
}

async function entryOf(row: MoveRow, bench: BenchState): Promise<BoardMove> {
  const progress = await progressOf(row)
  const { brief: about, handover, surveyNote, fitNote, proofNote } = row
  const takenIn = Boolean(row.get('takenIn'))
  const rail = moveRail({ brief: about, handover, surveyNote, fitNote, proofNote, takenIn }, progress)
  const { id, brief } = row
  const { name, customer } = brief
  const copied = (progress?.copied ?? 0) > 0
  return {
    id,
    name,
    customer,
    ...drivesOf(brief, bench),
    rail,
    copied,
    ...(await statusOf(row, rail, progress, bench)),
  }
}

function unreadable({ id }: MoveRow): BoardMove {
  const status = 'Needs you: what is stored of it cannot be read; the server’s log has the details'
  return {
    id,
    name: id,
    customer: '',
    from: '',
    to: '',
    rail: railOf({}),
    copied: false,
    status,
    tone: 'needs-you',
    when: '',
  }
}

function drivesOf(brief: Brief, bench: BenchState): { from: string; to: string } {
  const drive = (id: string | null) => bench.drives.find((d) => d.id === id)
  const names = brief.pairs.map(({ sourceId: id }) => (drive(id) ? driveName(drive(id)!) : 'a drive'))
  const from = names.length > 1 ? `${names.length} drives, ${names[0]} and ${names[1]}` : names[0]
  const target = drive(brief.pairs[0].targetId)
  const where = target && berthOf(target, bench).name
  const to = brief.toVirtualMachine
    ? 'to a virtual machine'
    : target
      ? `to ${driveName(target)}, ${where}`
      : 'no target yet'
  return { from, to }
}

type Status = Pick<BoardMove, 'status' | 'tone' | 'when'>

async function statusOf(
  row: MoveRow,
  rail: readonly RailStop[],
  progress: Progress | undefined,
  bench: BenchState,
): Promise<Status> {
  const copy = progress?.copies[progress.leg]
  const promised = promiseWords(row.brief.promised)
  if (row.standing) return { status: `Put off: ${row.standing.why}`, tone: 'not-yet', when: promised }
  if (row.handover) return { status: 'Handed over, old drive on the shelf', tone: 'done', when: '' }
  const gone = whatIsGone(row.brief, bench)
  if (gone) return { status: `Needs you: ${lowerFirst(gone)}`, tone: 'needs-you', when: promised }
  const move = moveOf(row, bench)
  const obstacle = obstacleOf(move)
  if (obstacle) return { status: obstacle, tone: 'not-yet', when: promised }
  if (copy && (copy.status === 'running' || copy.status === 'paused')) {
    const { progress } = copy
    const share = progress ? Math.floor(copyShare(progress) * 100) : 0
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
  const trouble = await planProblem(move, progress, { withNearest: false })
  if (trouble) {
    return {
      status: `Needs you: ${trouble.stops ? 'the route no longer works' : 'two moves want one place'}`,
      tone: 'needs-you',
      when: promised,
    }
  }
  const current = rail.find((stop) => stop.state === 'current')!
  const asks: Record<string, string> = {
    intake: 'take it in',
    survey: 'read the drives',
    route: 'take a route',
    fit: 'lock the fit',
    ready:
      progress?.phase === progress?.copied && progress?.phase !== undefined
        ? 'put the drives in place'
        : 'settle what is open',
    copy: 'start the copy',
    swap: 'swap the drives',
    proof: 'start it',
    handover: 'hand it over',
  }
  return { status: `Needs you: ${asks[current.id]}`, tone: 'needs-you', when: promised }
}
