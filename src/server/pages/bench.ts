import { ACCESSORY_MODELS, COMPUTER_MODELS, DRIVE_MODELS } from '@/bench/catalogue'
import { formatRate, formatSize } from '@/core/bytes/size'
import type { Brief } from '@/core/intake/brief'
import { type Accessory, baysOf } from '@/core/things/accessory'
import {
  type BenchState,
  berthOf,
  berthsOf,
  driveIn,
  placeKey,
  placeName,
  slotAt,
  whyNotThere,
} from '@/core/things/bench'
import { bodyWords, fittedWords, linkIn, slotWords } from '@/core/things/bodies'
import { type Drive, driveName, hasBytes, type Place } from '@/core/things/drive'
import { LINKS, socketWords } from '@/core/things/links'
import { MoveRow } from '../database/models'
import { listImages } from '../images'
import { activeBench, benchOfDrive, benchState, driveById } from '../world'
import { listBenches } from '../world/benches'

/** The bench as its page shows it: quays with berths, and for each drive where it can go. */
export async function benchView() {
  const bench = await benchState()
  const places = [...berthsOf(bench).map((b) => b.berth), { kind: 'table' } as const]
  const ways = Object.fromEntries(
    bench.drives.map((drive) => [
      drive.id,
      places
        .filter((place) => placeKey(place) !== placeKey(drive.place))
        .map((place) => ({
          key: placeKey(place),
          label: placeName(place, bench),
          place,
          why: whyNotThere(drive, place, bench) ?? null,
          speed: speedThere(drive, place, bench),
        })),
    ]),
  )
  const briefs = await allBriefs()
  const uses = Object.fromEntries(bench.drives.map((d) => [d.id, usesOf(d.id, briefs)]))
  const loose = (kind: 'shelf' | 'table') => bench.drives.filter((d) => d.place.kind === kind).map(plate)
  return {
    name: (await activeBench()).name,
    benches: await listBenches(),
    computers: bench.computers.map((computer) => ({
      id: computer.id,
      name: computer.name,
      detail: `${computer.model}, ${computer.firmware.mode.toUpperCase()}${computer.firmware.secureBoot ? ', Secure Boot on' : ''}`,
      state: `${RUNNING[computer.running]}, mains ${computer.mains ? 'in' : 'out'}${computer.batteryPercent === null ? '' : `, battery ${computer.batteryPercent} %`}`,
      mains: computer.mains,
      sockets: socketWords(computer.sockets),
      berths: computer.slots.map((slot) => berth(bench, { kind: 'slot', computerId: computer.id, slot: slot.id })),
    })),
    accessories: bench.accessories
      .filter((a) => baysOf(a).length > 0)
      .map((accessory) => ({
        id: accessory.id,
        name: accessory.name,
        detail: accessory.detail,
        berths: baysOf(accessory).map((bay) => berth(bench, { kind: 'bay', accessoryId: accessory.id, bay: bay.id })),
      })),
    others: bench.accessories
      .filter((a) => baysOf(a).length === 0)
      .map((a) => ({ id: a.id, name: a.name, detail: a.detail, facts: factsOf(a) })),
    table: loose('table'),
    shelf: loose('shelf'),
    ways,
    uses,
    things: { computers: bench.computers, accessories: bench.accessories, drives: bench.drives },
    models: { computers: COMPUTER_MODELS, accessories: ACCESSORY_MODELS, drives: DRIVE_MODELS },
    images: (await listImages()).filter((i) => i.opened && i.onBench.length === 0).map((i) => i.name),
  }
}

const RUNNING = { off: 'switched off', system: 'runs its system', stick: 'runs from the stick' }

/** How fast a drive would be read and written in a place, when it goes in there. */
function speedThere(drive: Drive, place: Place, bench: BenchState): string | null {
  const slot = slotAt(bench, place)
  const link = slot && linkIn(drive, slot)
  if (!link) return null
  const rate = LINKS[link].bytesPerSecond
  const [read, write] = [Math.min(rate, drive.readBytesPerSecond), Math.min(rate, drive.writeBytesPerSecond)]
  return `${LINKS[link].name}: reads ${formatRate(read)}, writes ${formatRate(write)}`
}

function factsOf(accessory: Accessory): string[] {
  switch (accessory.kind) {
    case 'stick':
      return [`USB-${accessory.plug} plug`, accessory.signed ? 'Secure Boot accepts it' : 'Secure Boot refuses it']
    case 'host':
      return [
        `${formatSize(accessory.freeBytes)} free`,
        `${accessory.cores} cores, ${formatSize(accessory.memoryBytes)} memory`,
        socketWords(accessory.sockets),
      ]
    case 'network':
      return [LINKS[accessory.link].name]
    case 'bracket':
      return [`${accessory.count} of them`]
    default:
      return []
  }
}

function berth(bench: BenchState, place: Place) {
  const drive = driveIn(bench, place)
  const slot = slotAt(bench, place)!
  return {
    key: placeKey(place),
    place,
    name: slot.id,
    takes: `${slotWords(slot)}, ${slot.speaks.map((s) => LINKS[s.link].name).join(' or ')}`,
    drive: drive ? plate(drive) : null,
  }
}

function plate(drive: Drive) {
  return {
    id: drive.id,
    name: driveName(drive),
    serial: drive.serial,
    detail: drive.shelf?.label ?? drive.kind,
    form: bodyWords(drive.body),
    protocol: drive.protocol,
    hasBytes: hasBytes(drive),
    image: drive.image,
    encrypted: drive.encrypted,
    purpose: drive.purpose,
    unreadable: drive.unreadable.reduce((n, r) => n + r.count, 0),
    health: drive.health,
    sizeBytes: drive.sizeBytes,
    logicalSectorSize: drive.logicalSectorSize,
    physicalSectorSize: drive.physicalSectorSize,
  }
}

async function allBriefs(): Promise<Brief[]> {
  return (await MoveRow.findAll({ order: [['position', 'ASC']] })).map((r) => r.brief)
}

/** Which moves a drive is part of, as what. */
function usesOf(driveId: string, briefs: readonly Brief[]): string[] {
  return briefs.flatMap((brief) => {
    const name = `${brief.name}, ${brief.customer}`
    if (brief.pairs.some((p) => p.sourceId === driveId)) return [`${name} (source)`]
    return brief.pairs.some((p) => p.targetId === driveId) ? [`${name} (target)`] : []
  })
}

/** One drive as its page shows it. Throws Refusal when it is not on the bench. */
export async function driveView(id: string) {
  const drive = await driveById(id)
  const bench = await benchOfDrive(id)
  const { serial, sizeBytes, kind, health, image } = drive
  return {
    id,
    drive: { name: driveName(drive), serial, place: berthOf(drive, bench).name, sizeBytes },
    detail: image === null ? `${kind}, ${fittedWords(drive)}` : `the image ${image}`,
    health,
    usedBy: usesOf(id, await allBriefs()),
  }
}
