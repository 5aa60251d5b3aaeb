import { berthOf, driveName, samePlace, whyNotThere } from '@/bench/places'
import type { BenchState, Drive, Place } from '@/bench/types'
import { LINKS } from '@/core/route/types'
import { MoveRow } from '../database/models'
import { benchState, driveById } from '.'

/** The bench as its page shows it: quays with berths, and for each drive where it can go. */
export async function benchView() {
  const bench = await benchState()
  const computers = bench.computers.map((computer) => ({
    id: computer.id,
    name: computer.name,
    detail: `${computer.model}, ${computer.firmware.mode.toUpperCase()}, mains ${computer.mains ? 'in' : 'out'}`,
    berths: computer.slots.map((slot) =>
      berth(
        bench,
        { kind: 'slot', computerId: computer.id, slot: slot.id },
        slot.id,
        `${slot.interfaceName}, ${LINKS[slot.link].name}`,
      ),
    ),
  }))
  const accessories = bench.accessories
    .filter((a) => a.bays.length > 0)
    .map((accessory) => ({
      id: accessory.id,
      name: accessory.name,
      detail: accessory.detail,
      berths: accessory.bays.map((bay) =>
        berth(
          bench,
          { kind: 'bay', accessoryId: accessory.id, bay: bay.id },
          bay.id,
          `${bay.interfaceName}, ${LINKS[bay.link].name}`,
        ),
      ),
    }))
  const loose = (kind: 'shelf' | 'table') => bench.drives.filter((d) => d.place.kind === kind).map(plate)
  const goals: { label: string; place: Place }[] = [
    ...bench.computers.flatMap((c) =>
      c.slots.map((s) => ({
        label: `${c.name}, ${s.id}`,
        place: { kind: 'slot' as const, computerId: c.id, slot: s.id },
      })),
    ),
    ...bench.accessories.flatMap((a) =>
      a.bays.map((b) => ({
        label: a.bays.length > 1 ? `${a.name}, ${b.id}` : a.name,
        place: { kind: 'bay' as const, accessoryId: a.id, bay: b.id },
      })),
    ),
    { label: 'on the table', place: { kind: 'table' } },
  ]
  const ways = Object.fromEntries(
    bench.drives.map((drive) => [
      drive.id,
      goals
        .filter(
          ({ place }) =>
            (!samePlace(place, drive.place) && place.kind !== drive.place.kind) ||
            (place.kind !== 'table' && !samePlace(place, drive.place)),
        )
        .map(({ label, place }) => ({
          label,
          place,
          why: whyNotThere(drive, place, bench) ?? stuck(drive, bench) ?? null,
        })),
    ]),
  )
  const uses = Object.fromEntries(await Promise.all(bench.drives.map(async (d) => [d.id, await usesOf(d.id)] as const)))
  return { computers, accessories, table: loose('table'), shelf: loose('shelf'), ways, uses }
}

/** Why a drive cannot be taken out of where it is. */
function stuck(drive: Drive, bench: BenchState): string | undefined {
  if (drive.place.kind !== 'slot') return undefined
  const { computerId } = drive.place
  const computer = bench.computers.find((c) => c.id === computerId)
  return computer?.mains
    ? `The ${computer.name} has mains power: pull the cable before a drive is taken out.`
    : undefined
}

function berth(bench: BenchState, place: Place, name: string, takes: string) {
  const drive = bench.drives.find((d) => samePlace(d.place, place))
  return { name, takes, drive: drive ? plate(drive) : null }
}

function plate(drive: Drive) {
  return {
    id: drive.id,
    name: driveName(drive),
    serial: drive.serial,
    detail: drive.shelf?.label ?? drive.kind,
    hasBytes: drive.file !== null || drive.image !== null,
    image: drive.image,
    health: drive.health,
    sizeBytes: drive.sizeBytes,
    logicalSectorSize: drive.logicalSectorSize,
    physicalSectorSize: drive.physicalSectorSize,
  }
}

/** Which moves a drive is part of, as what. */
async function usesOf(driveId: string): Promise<string[]> {
  const rows = await MoveRow.findAll({ order: [['position', 'ASC']] })
  return rows.flatMap(({ brief }) => {
    const name = `${brief.name}, ${brief.customer}`
    if (brief.sourceDriveIds.includes(driveId)) return [`${name} (source)`]
    return brief.targetDriveId === driveId ? [`${name} (target)`] : []
  })
}

/** One drive as its page shows it. Throws Refusal when it is not on the bench. */
export async function driveView(id: string) {
  const drive = await driveById(id)
  const bench = await benchState()
  const { serial, sizeBytes, kind, interfaceName, health, image } = drive
  return {
    id,
    drive: { name: driveName(drive), serial, place: berthOf(drive.place, bench).name, sizeBytes },
    detail: image === null ? `${kind}, ${interfaceName}` : `the image ${image}`,
    health,
    usedBy: await usesOf(id),
  }
}
