import { berthOf, driveName } from '@/bench/places'
import type { Brief } from '@/bench/scenario/moves'
import type { BenchState, Computer, Drive } from '@/bench/types'
import { whyNotYet } from '@/core/intake/possible'
import { benchState } from '../bench'
import { database } from '../database'
import { MoveRow } from '../database/models'
import { publish } from '../events'
import { Refusal } from '../refusal'

/** A move with the things it is about, as they are now. */
export interface Move {
  readonly id: string
  readonly row: MoveRow
  readonly brief: Brief
  readonly bench: BenchState
  readonly computer: Computer
  readonly source: Drive
  readonly target: Drive
}

/** The name, place and numbers of a drive, for its plate. */
export interface PlateView {
  readonly id: string
  readonly name: string
  readonly model: string
  readonly serial: string
  readonly sizeBytes: number
  readonly interfaceName: string
  readonly place: string
  readonly inComputer: boolean
  readonly connected: boolean
}

export async function moveRow(id: string): Promise<MoveRow> {
  await database()
  const row = /^[a-z0-9-]{1,60}$/.test(id) ? await MoveRow.findByPk(id) : null
  if (!row) throw new Refusal('There is no such move.', 404)
  return row
}

/** Loads a move that can be carried out. Throws Refusal when it is unknown or not possible yet. */
export async function loadMove(id: string): Promise<Move> {
  const row = await moveRow(id)
  const { brief } = row
  const bench = await benchState()
  const obstacle = obstacleOf(brief, bench)
  if (obstacle) throw new Refusal(obstacle)
  const computer = bench.computers.find((c) => c.id === brief.computerId)!
  const source = bench.drives.find((d) => d.id === brief.sourceDriveIds[0])!
  const target = bench.drives.find((d) => d.id === brief.targetDriveId)!
  return { id, row, brief, bench, computer, source, target }
}

/** The drives a move is about, by id and name. Throws Refusal when there is no such move. */
export async function moveDrives(id: string): Promise<{ id: string; name: string }[]> {
  const { brief } = await moveRow(id)
  const { drives } = await benchState()
  return [...brief.sourceDriveIds, brief.targetDriveId].flatMap((driveId) => {
    const drive = drives.find((d) => d.id === driveId)
    return drive ? [{ id: drive.id, name: driveName(drive) }] : []
  })
}

/** Why a move cannot be carried out yet, or undefined. */
export function obstacleOf(brief: Brief, bench: BenchState): string | undefined {
  const computer = bench.computers.find((c) => c.id === brief.computerId)
  const drive = (id: string | null) => bench.drives.find((d) => d.id === id)
  const sources = brief.sourceDriveIds.map(drive)
  if (!computer || sources.some((d) => !d)) return 'Its computer or one of its drives is not on the bench.'
  const target = drive(brief.targetDriveId)
  const reachable = (d: Drive) => bench.accessories.some((a) => a.bays.some((b) => b.interfaceName === d.interfaceName))
  const facts = (d: Drive) => ({
    name: driveName(d),
    sizeBytes: d.sizeBytes,
    hasBytes: d.file !== null || d.image !== null,
    encrypted: d.encrypted,
  })
  return whyNotYet({
    firmwareMode: computer.firmware.mode,
    sourceDrives: sources.map((d) => facts(d!)),
    target: target && { ...facts(target), adapter: reachable(target) },
    toVirtualMachine: brief.toVirtualMachine,
    toOtherComputer: brief.targetComputerId !== null,
  })
}

export function plateOf(drive: Drive, bench: BenchState): PlateView {
  const { id, model, serial, sizeBytes, interfaceName } = drive
  const berth = berthOf(drive.place, bench)
  return {
    id,
    name: driveName(drive),
    model,
    serial,
    sizeBytes,
    interfaceName,
    place: berth.name,
    inComputer: berth.inComputer,
    connected: berth.link !== undefined,
  }
}

type StationColumn = 'intake' | 'survey' | 'route' | 'fit' | 'ready' | 'swap' | 'proof' | 'handover'

/** Stores what stations came to and tells every open page. */
export async function keep(moveId: string, changes: Partial<Pick<MoveRow, StationColumn>>): Promise<void> {
  await MoveRow.update(changes, { where: { id: moveId } })
  publish({ type: 'changed', moveId })
}
