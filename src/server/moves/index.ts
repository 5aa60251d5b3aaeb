import type { Brief } from '@/core/intake/brief'
import { whyNotYet } from '@/core/intake/possible'
import { type BenchState, berthOf, lentByOf } from '@/core/things/bench'
import { fittedWords } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import { type Drive, driveName, type LentBy } from '@/core/things/drive'
import { database } from '../database'
import { MoveRow } from '../database/models'
import { type LogWords, storeWithNote } from './logbook'
import { notesOf } from '../database/notes'
import { publish } from '../ground/events'
import { Refusal } from '../ground/refusals'
import { benchState } from '../world'

/** One drive of a move and where it goes; no target of one that is to become a virtual disk. */
export interface MovePair {
  readonly source: Drive
  readonly target: Drive | undefined
  /** The one partition of the source that goes, onto a drive that keeps everything else. */
  readonly volume?: number
}

/** A move with the things it is about, as they are now. */
export interface Move {
  readonly id: string
  readonly row: MoveRow
  readonly brief: Brief
  readonly bench: BenchState
  /** Where the system lives. */
  readonly computer: Computer
  /** Where it will live; undefined for a virtual machine that is not made yet. */
  readonly goal: Computer | undefined
  readonly pairs: readonly MovePair[]
}

/** The name, place and numbers of a drive, for its plate. */
export interface PlateView {
  readonly id: string
  readonly name: string
  readonly model: string
  readonly serial: string
  readonly sizeBytes: number
  readonly fits: string
  readonly place: string
  readonly inComputer: boolean
  readonly connected: boolean
  /** The bench that lends it over the network. */
  readonly lentBy: LentBy | null
}

export async function moveRow(id: string): Promise<MoveRow> {
  await database()
  const row = /^[a-z0-9-]{1,60}$/.test(id) ? await MoveRow.findByPk(id) : null
  if (!row) throw new Refusal('move-unknown')
  return row
}

/** Loads a move. Throws Refusal when it is unknown, or when what it is about is not on its bench. */
export async function loadMove(id: string): Promise<Move> {
  const row = await moveRow(id)
  return moveOf(row, await benchState(row.benchId))
}

/** The move of a row, with the things of its bench. Throws Refusal when one of them is gone. */
export function moveOf(row: MoveRow, bench: BenchState): Move {
  const { id, brief } = row
  const missing = whatIsGone(brief, bench)
  if (missing) throw new Refusal('move-incomplete', { why: missing })
  const computer = bench.computers.find((c) => c.id === brief.computerId)!
  const goalId = brief.toVirtualMachine ? row.route?.machine?.id : (brief.targetComputerId ?? brief.computerId)
  const goal = bench.computers.find((c) => c.id === goalId)
  const drive = (driveId: string) => bench.drives.find((d) => d.id === driveId)!
  const pairs = brief.pairs.map(({ sourceId, targetId, volume }, i) => ({
    ...(volume === undefined ? {} : { volume }),
    source: drive(sourceId),
    target: targetId === null ? bench.drives.find((d) => d.id === diskId(id, i)) : drive(targetId),
  }))
  return { id, row, brief, bench, computer, goal, pairs }
}

/** One system of a drive moves, so that both drives stay in use and keep their identities. */
export const movesAlone = ({ pairs }: Pick<Move, 'pairs'>) => pairs.some((p) => p.volume !== undefined)

/** The old drive stays in the computer beside the new one, which gets an identity of its own. */
export const oldDriveStays = ({ brief }: Pick<Move, 'brief'>) => brief.oldDrive === 'stays'

/** The target gets an identity of its own, and all that refers to it is changed with it. */
export const hasOwnIdentity = ({ brief }: Pick<Move, 'brief'>) => oldDriveStays({ brief }) || brief.series !== undefined

/** Whether the sources go to the shelf as the way back; one that a system or a series is made from goes on being used. */
export const retiresSources = ({ brief }: Pick<Move, 'brief'>) =>
  brief.series === undefined && !brief.pairs.some((p) => p.volume !== undefined)

/** Which thing of a move is no longer on the bench, in a sentence; undefined when all are. */
export function whatIsGone(brief: Brief, bench: BenchState): string | undefined {
  if (!bench.computers.some((c) => c.id === brief.computerId)) return 'Its computer is no longer on the bench.'
  if (brief.targetComputerId !== null && !bench.computers.some((c) => c.id === brief.targetComputerId))
    return 'The computer that it moves to is no longer on the bench.'
  for (const { sourceId, targetId } of brief.pairs) {
    if (!bench.drives.some((d) => d.id === sourceId)) return 'A drive that it moves is no longer on the bench.'
    if (targetId !== null && !bench.drives.some((d) => d.id === targetId))
      return 'A drive that it moves to is no longer on the bench.'
  }
  return undefined
}

/** The drives a move is about, by id and name. Throws Refusal when there is no such move. */
export async function moveDrives(id: string): Promise<{ id: string; name: string }[]> {
  const { brief, benchId } = await moveRow(id)
  const { drives } = await benchState(benchId)
  return brief.pairs
    .flatMap((p) => [p.sourceId, ...(p.targetId === null ? [] : [p.targetId])])
    .flatMap((driveId) => {
      const drive = drives.find((d) => d.id === driveId)
      return drive ? [{ id: drive.id, name: driveName(drive) }] : []
    })
}

/** Why a move whose route was taken cannot be carried out yet, or undefined. Also undefined before one is taken. */
export function obstacleOf({ row }: Pick<Move, 'row'>): string | undefined {
  if (!row.route) return undefined
  return whyNotYet({ plan: row.route.plan })
}

export function plateOf(drive: Drive, bench: BenchState): PlateView {
  const { id, model, serial, sizeBytes } = drive
  const berth = berthOf(drive, bench)
  return {
    id,
    name: driveName(drive),
    model,
    serial,
    sizeBytes,
    fits: fittedWords(drive),
    place: berth.name,
    inComputer: berth.inComputer,
    connected: berth.link !== undefined,
    lentBy: lentByOf(drive, bench),
  }
}

/** The drive that a disk of a move's virtual machine is, once it is copied. */
export const diskId = (moveId: string, pair: number) => `${machineIdOf(moveId)}-disk-${pair + 1}`

export const machineIdOf = (moveId: string) => `${moveId}-machine`

type StationColumn = 'intake' | 'survey' | 'route' | 'fit' | 'ready' | 'swap' | 'proof' | 'handover'

/** Stores what stations came to, with what the rail and the logbook say of it, and tells every open page. */
export async function saveStationResults(
  moveId: string,
  changes: Partial<Pick<MoveRow, StationColumn | 'brief'>>,
  line?: LogWords,
): Promise<void> {
  await storeWithNote(
    moveId,
    () => MoveRow.update({ ...changes, ...notesOf(changes) }, { where: { id: moveId } }),
    line,
  )
  publish({ type: 'changed', moveId })
}
