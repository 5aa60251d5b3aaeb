import * as z from 'zod'
import { ACCESSORY_MODELS, COMPUTER_MODELS, DRIVE_MODELS } from '@/bench/catalogue'
import { formatSize } from '@/core/bytes/size'
import { healthVerdict } from '@/core/health/health'
import type { DriveUse } from '@/core/move/drive-use'
import { type Accessory, baysOf, diskFormatName } from '@/core/things/accessory'
import { type BenchState, berthOf, farBenchOf, lentByOf, placeKey, slotAt } from '@/core/things/bench'
import { bodyWords, fittedWords, slotWords } from '@/core/things/bodies'
import type { Computer } from '@/core/things/computer'
import { type Drive, driveName, hasBytes, pluggedIn, type Place } from '@/core/things/drive'
import { LINKS, socketWords } from '@/core/things/links'
import { listed } from '@/core/words'
import { isPort } from '@/host/devices/things'
import { provider } from '@/outside/provider'
import { listImages } from '../images'
import { moveClaims } from '../moves/claims'
import { activeBench, benchOfDrive, benchState, driveById } from '../world'
import { listBenches } from '../world/benches'

/** So many computers and docks, and so many loose drives, are shown at once; the others are found by name. */
const MOST_QUAYS = 24
const MOST_LOOSE = 60

export const BenchQuerySchema = z.object({ find: z.string().trim().max(80).default('').catch('') })

/** The bench as its page shows it: quays with berths, loose drives; those whose name or serial holds what is looked for. */
export async function benchView(find = '') {
  const bench = await benchState()
  const byPlace = new Map(bench.drives.map((drive) => [placeKey(drive.place), drive]))
  const words = find.toLowerCase().split(/\s+/).filter(Boolean)
  const isFound = (...texts: string[]) => {
    const text = texts.join('\n').toLowerCase()
    return words.every((word) => text.includes(word))
  }
  const isDriveFound = (drive: Drive | undefined) => drive !== undefined && isFound(driveName(drive), drive.serial)
  const hidden = { quays: 0, loose: 0 }
  const most = <T>(found: readonly T[], count: number, of: keyof typeof hidden): readonly T[] => {
    hidden[of] += Math.max(0, found.length - count)
    return found.slice(0, count)
  }
  const slotsOf = ({ id, slots }: Computer) =>
    slots.map((slot): Place => ({ kind: 'slot', computerId: id, slot: slot.id }))
  const baysOfOne = (accessory: Accessory) =>
    baysOf(accessory).map((bay): Place => ({ kind: 'bay', accessoryId: accessory.id, bay: bay.id }))
  const holdsFound = (places: readonly Place[]) => places.some((place) => isDriveFound(byPlace.get(placeKey(place))))
  const hostOf = ({ virtual }: Computer) => bench.accessories.find((a) => a.id === virtual?.hostId)?.name ?? 'a host'
  const computers = most(
    bench.computers.filter((c) => isFound(c.name, c.model) || holdsFound(slotsOf(c))),
    MOST_QUAYS,
    'quays',
  )
  const adapters = most(
    bench.accessories.filter((a) => baysOf(a).length > 0 && (isFound(a.name, a.detail) || holdsFound(baysOfOne(a)))),
    MOST_QUAYS,
    'quays',
  )
  const others = bench.accessories.filter((a) => baysOf(a).length === 0 && a.kind !== 'far-bench')
  const farBenches = bench.accessories.flatMap((a) => {
    const there = bench.drives.filter((d) => d.place.kind === 'far' && d.place.accessoryId === a.id)
    const isShown = a.kind === 'far-bench' && (isFound(a.name) || there.some(isDriveFound))
    return isShown ? [{ bench: a, drives: most(there, MOST_LOOSE, 'loose') }] : []
  })
  const loose = (kind: 'shelf' | 'table') =>
    most(
      bench.drives.filter((d) => d.place.kind === kind && isDriveFound(d)),
      MOST_LOOSE,
      'loose',
    )
  const [table, shelf] = [loose('table'), loose('shelf')]
  const berth = (place: Place) => berthView(bench, place, byPlace.get(placeKey(place)))
  const moored = [...computers.flatMap(slotsOf), ...adapters.flatMap(baysOfOne)]
  const far = farBenches.flatMap((f) => f.drives)
  const drives = [...moored.flatMap((place) => byPlace.get(placeKey(place)) ?? []), ...far, ...table, ...shelf]
  const plate = (drive: Drive) => plateOf(drive, bench)
  const active = await activeBench()
  const uses = await usesOf(active.id)
  return {
    name: active.name,
    /** Its drives are those that are plugged into this computer. */
    isSeen: !provider().isTold,
    benches: await listBenches(),
    find,
    hidden,
    unreadable: bench.unreadable,
    totals: {
      drives: bench.drives.length,
      connected: bench.drives.filter((d) => d.place.kind !== 'table' && d.place.kind !== 'shelf').length,
      failing: bench.drives.filter((d) => healthVerdict(d.health).state === 'failing').length,
    },
    computers: computers.map((computer) => ({
      id: computer.id,
      name: computer.name,
      detail: `${computer.farBenchId ? `at ${farBenchOf(computer.farBenchId, bench)?.name ?? 'another bench'}, ` : ''}${computer.virtual ? `${computer.model} on the ${hostOf(computer)}` : computer.model}, ${computer.firmware.mode.toUpperCase()}${computer.firmware.secureBoot ? ', Secure Boot on' : ''}`,
      isVirtual: computer.virtual !== undefined,
      isThis: computer.isThis === true,
      state: computer.isThis
        ? 'Imbarco runs on it'
        : computer.virtual
          ? RUNNING[computer.running]
          : `${RUNNING[computer.running]}, mains ${computer.mains ? 'in' : 'out'}${computer.batteryPercent === null ? '' : `, battery ${computer.batteryPercent} %`}`,
      mains: computer.mains,
      sockets: socketWords(computer.sockets),
      berths: slotsOf(computer).map(berth),
    })),
    accessories: adapters.map((accessory) => ({
      id: accessory.id,
      name: accessory.name,
      detail: accessory.detail,
      isSeen: isPort(accessory.id),
      berths: baysOfOne(accessory).map(berth),
    })),
    farBenches: farBenches.map(({ bench: { id, name, detail }, drives: there }) => ({
      ...{ id, name, detail, drives: there.map(plate) },
      computers: bench.computers.filter((c) => c.farBenchId === id).map((c) => c.name),
    })),
    others: others.map((a) => ({
      ...{ id: a.id, name: a.name, detail: a.detail, facts: factsOf(a) },
      isSeen: isPort(a.id),
    })),
    table: table.map(plate),
    shelf: shelf.map(plate),
    uses: Object.fromEntries(drives.map((d) => [d.id, uses(d.id)])),
    things: { computers, accessories: [...adapters, ...others, ...farBenches.map((f) => f.bench)], drives },
    models: { computers: COMPUTER_MODELS, accessories: ACCESSORY_MODELS, drives: DRIVE_MODELS },
    images: (await listImages()).filter((i) => i.opened && i.onBench.length === 0).map((i) => i.name),
  }
}

const RUNNING = { off: 'switched off', system: 'runs its system', stick: 'runs from the stick' }

function factsOf(accessory: Accessory): string[] {
  switch (accessory.kind) {
    case 'stick':
      return [`USB-${accessory.plug} plug`, accessory.signed ? 'Secure Boot accepts it' : 'Secure Boot refuses it']
    case 'host':
      return [
        `${formatSize(accessory.freeBytes)} free`,
        `${accessory.cores} cores, ${formatSize(accessory.memoryBytes)} memory`,
        `runs ${listed(accessory.diskFormats.map(diskFormatName))}`,
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

function berthView(bench: BenchState, place: Place, drive: Drive | undefined) {
  const slot = slotAt(bench, place)!
  return {
    key: placeKey(place),
    place,
    name: slot.id,
    takes: `${slotWords(slot)}, ${slot.speaks.map((s) => LINKS[s.link].name).join(' or ')}`,
    drive: drive ? plateOf(drive, bench) : null,
  }
}

function plateOf(drive: Drive, bench: BenchState) {
  return {
    lentBy: lentByOf(drive, bench),
    pluggedIn: pluggedIn(drive),
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

/** Tells which moves a drive is part of, as what. */
async function usesOf(benchId: string): Promise<(driveId: string) => DriveUse[]> {
  const byDrive = new Map<string, DriveUse[]>()
  const say = (driveId: string | null, use: DriveUse) => {
    if (driveId !== null) byDrive.set(driveId, [...(byDrive.get(driveId) ?? []), use])
  }
  for (const { id: moveId, name, customer, pairs } of await moveClaims(benchId)) {
    const title = `${name}, ${customer}`
    for (const { sourceId, targetId } of pairs) {
      say(sourceId, { moveId, title, as: 'source' })
      if (targetId !== sourceId) say(targetId, { moveId, title, as: 'target' })
    }
  }
  return (driveId) => byDrive.get(driveId) ?? []
}

/** One drive as its page shows it. Throws Refusal when it is not on the bench. */
export async function driveView(id: string) {
  const drive = await driveById(id)
  const bench = await benchOfDrive(id)
  const { serial, sizeBytes, kind, health, image } = drive
  return {
    id,
    drive: {
      ...{ id, name: driveName(drive), serial, place: berthOf(drive, bench).name, sizeBytes },
      lentBy: lentByOf(drive, bench),
    },
    detail: image === null ? `${kind}, ${fittedWords(drive)}` : `the image ${image}`,
    health,
    usedBy: (await usesOf((await activeBench()).id))(id),
  }
}
