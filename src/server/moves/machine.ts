import { legsOf } from '@/core/route/types'
import type { Computer } from '@/core/things/computer'
import { DISK_FORMATS, diskFormatName, isHost } from '@/core/things/accessory'
import type { Drive } from '@/core/things/drive'
import { computerOfMachine, driveOfDisk } from '@/core/vm/machine'
import { ASKED_DRIVERS, proposeMachine } from '@/core/vm/propose'
import { type DiskFormatChoice, diskFormatFor, mostBytesOf } from '@/core/vm/disk-format'
import { CONTROLLER_NAMES, CONTROLLERS } from '@/core/vm/types'
import { ComputerRow, DriveRow } from '../database/models'
import type { RouteResult } from '../database/schemas'
import { Refusal } from '../ground/refusals'
import { runTask } from '../jobs/threads'
import { bytesOnDisk } from '../world'
import type { LegNow } from './legs'
import { diskId, machineIdOf, type Move } from '.'

// The virtual machine that a move ends in: a computer of the bench from when its route was taken, its disks with their copies.

/**
 * Makes the virtual machine of a move as it is proposed for what was read, or makes the one that is there anew. `files`
 * are the images that become its disks, in the order of the drives.
 */
export async function makeMachine(
  move: Move,
  hostId: string,
  files: readonly string[],
): Promise<NonNullable<RouteResult['machine']>> {
  const { id, row, computer, pairs } = move
  const surveys = row.survey!.pairs.map((p) => p.source)
  const { memoryBytes, processors } = computer
  const { machine, reasons, obstacles } = proposeMachine({
    name: `${computer.name}, virtual`.slice(0, 80),
    drives: surveys.map((survey, i) => ({ survey, file: files[i] })),
    drivers: await runTask('readDrivers', {
      drive: bytesOnDisk(pairs[0].source),
      survey: surveys[0],
      asked: ASKED_DRIVERS,
    }),
    memoryBytes,
    processors: processors.count * processors.cores,
    formatReason: diskFormatOf(move, hostId).reason,
  })
  const made = computerOfMachine(machine, { id: machineIdOf(id), hostId })
  await ComputerRow.upsert({ id: made.id, benchId: row.benchId, data: made })
  return { id: made.id, reasons: [...reasons], obstacles: [...obstacles] }
}

/** What the disks of a move's virtual machine are, all of them alike, by the largest. Throws Refusal. */
export function diskFormatOf({ bench, row }: Pick<Move, 'bench' | 'row'>, hostId: string): DiskFormatChoice {
  const host = bench.accessories.filter(isHost).find((h) => h.id === hostId)
  if (!host) throw new Refusal('no-host')
  return diskFormatFor(host, Math.max(...row.survey!.pairs.map(({ source }) => source.sizeBytes)))
}

/** What the virtual disks of the chosen route hold at most; undefined where it makes none. */
export function diskLimitOf(
  route: RouteResult | null,
): { readonly format: string; readonly bytes: number } | undefined {
  if (!route) return undefined
  const { legs } = legsOf(route.plan)
  const image = route.images.find(({ leg, end }) => end === 'to' && legs[leg].transfer.to.kind === 'virtual-disk')
  const format = DISK_FORMATS.find((one) => one === image?.format)
  return format && { format: diskFormatName(format), bytes: mostBytesOf(format) }
}

/** Puts a disk that was copied into the virtual machine of its move. */
export async function addDisk(move: Move, { to, transfer: { pair } }: LegNow): Promise<void> {
  const machine = await machineOf(move)
  if (!machine || to.kind !== 'image') return
  const slot = machine.slots[pair]
  const controller = CONTROLLERS.find((kind) => slot.id.startsWith(`${CONTROLLER_NAMES[kind]} `)) ?? 'sata'
  const host = move.bench.accessories.filter(isHost).find((h) => h.id === machine.virtual?.hostId)
  const disk: Drive = {
    ...driveOfDisk(
      { file: to.name, sizeBytes: to.sizeBytes, controller, place: pair },
      {
        id: diskId(move.id, pair),
        computerId: machine.id,
        serial: `DISK-${pair + 1}-${move.pairs[pair].source.serial}`.slice(0, 80),
        name: `Virtual disk ${String.fromCharCode(65 + (pair % 26))}`,
      },
      { sectorSize: to.sectorSize, bytesPerSecond: host?.diskBytesPerSecond ?? 400e6 },
    ),
    place: { kind: 'slot', computerId: machine.id, slot: slot.id },
  }
  await DriveRow.upsert({ id: disk.id, benchId: move.row.benchId, data: disk })
}

async function machineOf({ row }: Move): Promise<Computer | undefined> {
  const id = row.route?.machine?.id
  const found = id === undefined ? null : await ComputerRow.findByPk(id)
  if (id !== undefined && !found) throw new Refusal('machine-gone')
  return found?.data
}
