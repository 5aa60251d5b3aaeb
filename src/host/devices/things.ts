import { createHash } from 'node:crypto'
import { formatSize } from '@/core/bytes/size'
import { SIGNERS } from '@/core/boot/types'
import type { Accessory, Adapter } from '@/core/things/accessory'
import type { Slot } from '@/core/things/bodies'
import { type Computer, MOST_NETWORK_CARDS, type NetworkCard } from '@/core/things/computer'
import type { Berth, Drive, KernelState } from '@/core/things/drive'
import type { LinkId } from '@/core/things/links'
import type { ThisComputer } from './computer'
import { type KernelDrive, oneLine, seenDevice } from './describe'

// This computer as a bench has it: what is built in sits in its slots, what hangs at USB in adapters, one for each port.

export const THIS_ID = 'this-computer'

/** A drive that is plugged in, as a bench has it. */
export interface SeenDrive {
  readonly seen: KernelState
  /** What it says of itself; of two that say the same the key has where each is, too. */
  readonly says: string
  readonly place: Berth
  /** What a bench says of a drive that it meets for the first time. */
  readonly first: Omit<Drive, 'id' | 'kernel' | 'place'>
}

export interface Seen {
  readonly computer: Computer
  /** A port for each drive outside, and the network that the computer hangs at. */
  readonly accessories: readonly Accessory[]
  readonly drives: readonly SeenDrive[]
}

/** A drive with what uses it. */
export interface UsedDrive extends KernelDrive {
  readonly uses: readonly string[]
}

/** What a bench of this computer has on it. */
export function thingsOf(computer: ThisComputer, found: readonly UsedDrive[]): Seen {
  // Drives in sectors that nobody here knows cannot be on a bench.
  const drives = found.filter((d) => d.logicalSectorSize === 512 || d.logicalSectorSize === 4096)
  const keys = drives.map(keyOf)
  const isBuiltIn = (drive: KernelDrive) => !['USB', 'loop'].includes(drive.transport)
  // No more than a bench takes of one computer; what is beyond that hangs at a port of its own.
  const inside = drives.filter(isBuiltIn).slice(0, MOST_SLOTS)
  const outside = drives.filter((drive) => !inside.includes(drive))
  const seenDrives = drives.map((drive, i): SeenDrive => {
    const hasTwin = keys.some((key, k) => k !== i && key === keys[i])
    return {
      seen: {
        // Of two that say the same of themselves, where each is plugged in tells them apart.
        key: hasTwin ? `${keys[i]} at ${drive.port}` : keys[i],
        path: `/dev/${drive.name}`,
        device: seenDevice(drive),
        serialOf: oneLine(drive.serial ?? '', 80) === '' ? 'sectors' : drive.ofBridge ? 'bridge' : 'drive',
        uses: drive.uses.slice(0, 60).map((use) => oneLine(use, 400)),
        hasTwin,
        forgets: drive.forgets,
      },
      says: keys[i],
      place: inside.includes(drive)
        ? { kind: 'slot', computerId: THIS_ID, slot: slotName(drive) }
        : { kind: 'bay', accessoryId: adapterId(drive), bay: BAY },
      first: describe(drive),
    }
  })
  const accessories = [...outside.map(adapterOf), ...networkOf(computer)]
  return { computer: describeComputer(computer, inside), accessories, drives: seenDrives }
}

const MOST_SLOTS = 24
const MOST_ENTRIES = 32
const BAY = 'drive'
const slotName = ({ port }: KernelDrive) => oneLine(port, 40)
const portName = ({ transport, name, port }: KernelDrive) =>
  transport === 'loop' ? `Loop device ${name.replace('loop', '')}` : port.replace(/^usb/, 'USB')
/** No id that is made of a name has a point. */
const PORT = 'port.'
export const isPort = (accessoryId: string) => accessoryId.startsWith(PORT)
const adapterId = ({ transport, name, port }: KernelDrive) =>
  `${PORT}${transport === 'loop' ? name : port}`.replace(/[^\w.-]+/g, '-').slice(0, 80)

/** Paths of files may be longer than anything that is kept of one. */
const digestOf = (file: string) => createHash('sha256').update(file).digest('hex').slice(0, 32)

/** By what a drive is known again: what it says of itself, the file behind a loop device, or else where it is. */
function keyOf({ model, serial, sizeBytes, backingFile, backingOffset, port }: KernelDrive): string {
  if (backingFile !== null) return `file ${digestOf(backingFile)} from ${backingOffset} on`
  return oneLine(serial === null ? `${model} of ${sizeBytes} at ${port}` : `${model} ${serial} of ${sizeBytes}`, 500)
}

function describe(drive: KernelDrive): SeenDrive['first'] {
  const { model, serial, transport, sizeBytes, isRotational } = drive
  const logicalSectorSize = drive.logicalSectorSize as 512 | 4096
  const isVirtual = transport === 'loop' || transport === 'virtual'
  return {
    model: oneLine(model, 80) || 'Drive without a model',
    // Where it tells none, what a person goes by is its number of sectors.
    serial: oneLine(serial ?? '', 80) || String(sizeBytes / logicalSectorSize),
    ...(transport === 'NVMe'
      ? { kind: 'NVMe SSD' as const, body: { form: 'M.2', size: '2280', key: 'M' } as const, protocol: 'PCIe' as const }
      : transport === 'eMMC'
        ? { kind: 'built-in storage' as const, body: { form: 'built-in' } as const, protocol: 'eMMC' as const }
        : {
            kind: isVirtual ? ('virtual disk' as const) : isRotational ? ('hard disk' as const) : ('SSD' as const),
            body: { form: isRotational && !isVirtual ? '3.5-inch' : '2.5-inch' } as const,
            protocol: 'SATA' as const,
          }),
    ...{ sizeBytes, logicalSectorSize, physicalSectorSize: drive.physicalSectorSize },
    // Until it has been measured, as slow as any drive that is worth to be copied to.
    ...{ readBytesPerSecond: UNMEASURED, writeBytesPerSecond: UNMEASURED, requestSeconds: 0 },
    ...{ encrypted: false, purpose: 'customer', unreadable: [], misstores: [], file: null, image: null },
  }
}

const UNMEASURED = 100e6

/** A place that takes what is in it, whatever is put there later. */
function slotFor(drive: KernelDrive, id: string): Slot {
  const { body, protocol } = describe(drive)
  const takes =
    body.form === 'M.2'
      ? [
          {
            form: 'M.2' as const,
            sizes: ['2230' as const, '2242' as const, '2260' as const, '2280' as const],
            key: 'M' as const,
          },
        ]
      : body.form === 'built-in'
        ? [{ form: 'built-in' as const }]
        : [{ form: '2.5-inch' as const }, { form: '3.5-inch' as const }]
  return { id, takes, speaks: [{ protocol, link: linkOf(drive) }] }
}

/** What its port agreed on, where that is a rate of USB; anything else goes as fast as it goes. */
function linkOf({ transport, usbMegabits }: KernelDrive): LinkId {
  if (transport !== 'USB' || usbMegabits === null) return 'own'
  return usbMegabits >= 10_000 ? 'usb-10' : usbMegabits >= 5000 ? 'usb-5' : 'usb-2'
}

function adapterOf(drive: KernelDrive): Adapter {
  const detail = drive.backingFile ?? `${drive.transport} at ${drive.port}`
  return {
    kind: 'cable',
    id: adapterId(drive),
    name: portName(drive),
    detail: oneLine(detail.slice(-120), 120),
    plugs: ['A'],
    bays: [slotFor(drive, BAY)],
  }
}

/** Cards that hang at a network, the fastest first. */
function cardsOf({ networkCards }: ThisComputer): NetworkCard[] {
  const rate = (megabits: number | null) => megabits ?? 0
  return networkCards
    .filter((card) => card.isUp)
    .sort((a, b) => rate(b.megabits) - rate(a.megabits))
    .slice(0, MOST_NETWORK_CARDS)
    .map(({ name, megabits }) => ({ name: oneLine(name, 40), link: networkLink(megabits), address: null }))
}

const networkLink = (megabits: number | null) =>
  megabits === 100 ? ('ethernet-100' as const) : megabits === 1000 ? ('ethernet-1' as const) : ('own' as const)

function networkOf(computer: ThisComputer): Accessory[] {
  const [first, ...others] = cardsOf(computer)
  if (!first) return []
  const detail = [first, ...others].map(({ name }) => name).join(', ')
  return [{ kind: 'network', id: `${PORT}network`, name: 'Network', detail: detail.slice(0, 120), link: first.link }]
}

function describeComputer(computer: ThisComputer, inside: readonly KernelDrive[]): Computer {
  const { maker, model, firmware, secureBoot, memoryBytes, cores, bootEntries, bootOrder } = computer
  const called = [maker, model].filter(Boolean).join(' ')
  const slots = inside.map((drive) => slotFor(drive, slotName(drive)))
  return {
    id: THIS_ID,
    name: 'This computer',
    model: oneLine(called, 80) || `${firmware.toUpperCase()}, ${formatSize(memoryBytes)} memory`,
    firmware: {
      mode: firmware,
      secureBoot: secureBoot === true,
      startsFromUsb: true,
      startsFromNvme: firmware === 'uefi' || inside.some((d) => d.transport === 'NVMe'),
      startsBeyond2Tib: firmware === 'uefi',
      bootMenuKey: 'its boot menu key',
      bootEntries: bootEntries.slice(0, MOST_ENTRIES).map(({ id, name, path, partition }) => ({
        ...{ id, name: oneLine(name, 80), path: oneLine(path, 260), partitionGuid: partition?.guid ?? '' },
      })),
      bootOrder: bootOrder.slice(0, MOST_ENTRIES),
      trustedSigners: [...SIGNERS],
      driveOrder: [],
    },
    memoryBytes,
    processors: { count: 1, cores: Math.min(256, Math.max(1, cores)) },
    slots: slots.length > 0 ? slots : [EMPTY_SLOT],
    homeSlot: (slots[0] ?? EMPTY_SLOT).id,
    sockets: [],
    networkCards: cardsOf(computer),
    batteryPercent: null,
    programs: [],
    sleepMinutes: null,
    chassis: UNKNOWN_CASE,
    running: 'stick',
    batteryOut: false,
    mains: true,
    isThis: true,
    online: true,
  }
}

const EMPTY_SLOT: Slot = {
  id: 'ata1',
  takes: [{ form: '2.5-inch' }, { form: '3.5-inch' }],
  speaks: [{ protocol: 'SATA', link: 'own' }],
}

/** What a kernel does not tell of; the person at the computer sees it. */
const UNKNOWN_CASE: Computer['chassis'] = {
  kind: 'desktop',
  hasBattery: false,
  cover: { name: 'cover', screws: 0, screw: '', how: 'As its maker says.', groups: [] },
  driveMount: { screws: 0, screw: '', how: 'As its maker says.', groups: [] },
  connectors: [],
  movesOver: [],
  tools: [],
}

/**
 * Which drive of a bench each one is: that which was this very device at the last look, even where another one says the same
 * of itself by now; or else that which is known by what it says.
 */
export function knownAs(stored: readonly Drive[], drives: readonly SeenDrive[]): Map<SeenDrive, Drive> {
  const found = new Map<SeenDrive, Drive>()
  const isSame = ({ kernel }: Drive, { seen }: SeenDrive) =>
    kernel?.device != null &&
    kernel.device.sequence !== null &&
    JSON.stringify(kernel.device) === JSON.stringify(seen.device)
  const find = (one: SeenDrive, is: (drive: Drive) => boolean) => {
    const drive = found.has(one) ? undefined : stored.find((d) => ![...found.values()].includes(d) && is(d))
    if (drive) found.set(one, drive)
  }
  for (const one of drives) find(one, (d) => isSame(d, one))
  for (const one of drives) find(one, (d) => d.kernel?.key === one.seen.key)
  for (const one of drives) find(one, (d) => d.kernel?.key === one.says)
  return found
}
