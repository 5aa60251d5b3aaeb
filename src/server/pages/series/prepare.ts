import { randomUUID } from 'node:crypto'
import { Op } from 'sequelize'
import { defaultWish } from '@/core/fit/solve'
import { legsOf, type Plan } from '@/core/route/types'
import { driveName } from '@/core/things/drive'
import { database } from '../../database'
import { MoveRow, SeriesRow } from '../../database/models'
import { readable } from '../../database/readable'
import { refusedFor } from '../../ground/answer'
import { publish, subscribe } from '../../ground/events'
import { log } from '../../ground/log'
import { outsideQueues } from '../../ground/queue'
import { Refusal } from '../../ground/refusals'
import { singleton } from '../../ground/singleton'
import { jobEnd, type StartedJob } from '../../jobs'
import { loadMove, type Move, moveRow } from '../../moves'
import { changeMoveInTurn } from '../../moves/jobs'
import { notYet, seatsOfSeries } from '../../moves/question'
import { lockFit } from '../../stations/fit'
import { confirmIntake } from '../../stations/intake'
import { routesOf, takeRoute } from '../../stations/route'
import { confirmSurvey, readDrives } from '../../stations/survey'

// What of a series needs no hands is done by itself: every computer comes to where a drive is put into a bay, as soon as
// one is free for it.

/** Series that are being carried on, with whether something has changed since their turn began. */
const underway = () => singleton('series-underway', () => new Map<string, { again: boolean }>())

/** Why a computer of a series could not be prepared, by its move. It is tried again when somebody asks for it. */
const troubles = () => singleton('series-troubles', () => new Map<string, string>())

export const troubleOf = (moveId: string) => troubles().get(moveId)
export const forgetTrouble = (moveId: string) => void troubles().delete(moveId)

/** The moves of a series that can be read, in the order in which its computers were named. */
export async function membersOf(seriesId: string, benchId: string, attributes?: string[]): Promise<MoveRow[]> {
  // The text is looked through first, so that of many moves only these are made sense of.
  const brief = { [Op.like]: `%"series":"${seriesId}"%` }
  const where = { benchId, brief: brief as never }
  const rows = await MoveRow.findAll({ where, attributes, order: [['position', 'ASC']] })
  return readable(rows, (row) => (row.brief.series === seriesId ? [row] : [])).found.flat()
}

const isOpen = ({ handover, standing }: MoveRow) => !handover && !standing

/** What was laid out once and is changed by hand since is left to that. */
const isPrepared = ({ route, fit }: MoveRow) => route !== null && fit !== null

/** Does for a series what needs nobody, beside whatever else is done. One turn at a time. */
export function carryOn(seriesId: string): void {
  const now = underway().get(seriesId)
  if (now) {
    now.again = true
    return
  }
  const turn = { again: true }
  underway().set(seriesId, turn)
  void outsideQueues(() => inTurns(seriesId, turn))
}

/** Whether some series is being carried on just now. */
export const isPreparing = () => underway().size > 0

async function inTurns(seriesId: string, turn: { again: boolean }): Promise<void> {
  try {
    while (turn.again) {
      turn.again = false
      await prepareAll(seriesId)
    }
  } catch (error) {
    log.error(error)
  } finally {
    underway().delete(seriesId)
  }
}

/** Of a move, what tells whether it is prepared; its survey is long. */
const LOOKED_AT = ['id', 'brief', 'standing', 'handover', 'route', 'fit']

async function prepareAll(seriesId: string): Promise<void> {
  const series = await SeriesRow.findByPk(seriesId)
  if (!series) return
  for (const row of await membersOf(seriesId, series.benchId, LOOKED_AT)) {
    if (!isOpen(row) || isPrepared(row) || troubles().has(row.id)) continue
    try {
      await prepare(row.id)
    } catch (error) {
      troubles().set(row.id, refusedFor(error).sentence)
      publish({ type: 'changed', moveId: row.id })
    }
  }
}

/** Takes one computer in, reads its drives, and gives it a bay that is free, with the fit that the series has. */
async function prepare(moveId: string): Promise<void> {
  const inTurn = <T>(change: () => Promise<T>) => changeMoveInTurn(moveId, change)
  if (!(await moveRow(moveId)).intake) await untilEnd(await inTurn(() => confirmIntake(moveId)))
  if (!(await moveRow(moveId)).survey) await untilEnd(await inTurn(() => readDrives(moveId)))
  if (!(await moveRow(moveId)).survey?.confirmed) await inTurn(() => confirmSurvey(moveId))
  const move = await loadMove(moveId)
  if (!move.row.route) {
    const plan = await planByAFreeBay(move)
    if (!plan) {
      // Where others of the series are at bays, one of these will be free.
      if ((await seatsOfSeries(move)).length > 0) return
      throw new Refusal('series-no-bay', { drive: driveName(move.pairs[0].target!) })
    }
    await inTurn(() => takeRoute(moveId, { plan: plan.id }))
  }
  for (const [pair, { source }] of move.row.survey!.pairs.entries()) {
    // Two of a series may meet in one computer.
    const wish = { ...defaultWish(source), identity: { of: 'all' as const, seed: randomUUID() } }
    await inTurn(() => lockFit(moveId, { pair, wish }))
  }
}

async function untilEnd(job: StartedJob | undefined): Promise<void> {
  if (!job) return
  const { state, message } = await jobEnd(job.id)
  if (state !== 'done') throw new Refusal('series-not-prepared', { why: message ?? 'It did not come to its end.' })
}

/** The best plan that writes the target in a bay; those that others of the series have are taken. */
async function planByAFreeBay(move: Move): Promise<Plan | undefined> {
  const { plans } = await routesOf(move)
  const [{ source }] = move.pairs
  // The others of the series read from it there.
  const stays = (plan: Plan) =>
    source.place.kind !== 'bay' || !plan.actions.some((a) => 'driveId' in a && a.driveId === source.id)
  const inABay = (plan: Plan) =>
    legsOf(plan).legs.every(({ transfer: { to } }) => to.kind === 'drive' && to.place.kind === 'bay')
  return plans.find((plan) => notYet(plan) === null && inABay(plan) && stays(plan))
}

/** Carries every series on that somebody opened, when the server starts and whenever something has changed. */
export function watchSeries(): void {
  let timer: NodeJS.Timeout | undefined
  const look = async () => {
    await database()
    for (const { id } of await SeriesRow.findAll({ attributes: ['id'] })) carryOn(id)
  }
  const soon = () => {
    clearTimeout(timer)
    timer = setTimeout(
      () => void outsideQueues(look).catch((error: unknown) => log.error(error)),
      LOOK_AFTER_MS,
    ).unref()
  }
  subscribe((event) => {
    if (event.type === 'changed') soon()
  })
  soon()
}

const LOOK_AFTER_MS = 150
