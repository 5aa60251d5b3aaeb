import { GIB, TIB } from '@/core/bytes/size'
import { type Firmware, SIGNERS } from '@/core/boot/types'
import type { AccessoryModel } from '@/core/things/accessory'
import type { Body, Protocol, Slot } from '@/core/things/bodies'
import type { Chassis, ScrewGroup } from '@/core/things/chassis'
import type { Computer, Program } from '@/core/things/computer'
import type { Drive } from '@/core/things/drive'
import type { LinkId } from '@/core/things/links'

export const SATA_25: Pick<Drive, 'body' | 'protocol'> = { body: { form: '2.5-inch' }, protocol: 'SATA' }
export const SATA_35: Pick<Drive, 'body' | 'protocol'> = { body: { form: '3.5-inch' }, protocol: 'SATA' }
export const NVME_2280: Pick<Drive, 'body' | 'protocol'> = {
  body: { form: 'M.2', size: '2280', key: 'M' },
  protocol: 'PCIe',
}
export const STUDIO_BLADE: Pick<Drive, 'body' | 'protocol'> = {
  body: { form: 'blade', family: 'Brezza Studio' },
  protocol: 'PCIe',
}

export const BUILT_IN: Pick<Drive, 'body' | 'protocol'> = { body: { form: 'built-in' }, protocol: 'eMMC' }

const speaks = (protocol: Protocol, link: LinkId) => [{ protocol, link }]

/** A place for SATA drives: for 2.5-inch ones, for 3.5-inch ones, or for both. */
export function sataSlot(id: string, link: LinkId, forms: readonly ('2.5-inch' | '3.5-inch')[]): Slot {
  return { id, takes: forms.map((form) => ({ form })), speaks: speaks('SATA', link) }
}

/** An M-key slot for NVMe modules up to 2280. */
export function nvmeSlot(id: string, link: LinkId = 'pcie-3x4'): Slot {
  return { id, takes: [{ form: 'M.2', sizes: ['2242', '2260', '2280'], key: 'M' }], speaks: speaks('PCIe', link) }
}

export function bladeSlot(id: string, family = 'Brezza Studio'): Slot {
  return { id, takes: [{ form: 'blade', family }], speaks: speaks('PCIe', 'pcie-3x4') }
}

/** Where storage is soldered onto the board. */
export function boardSlot(id = 'board'): Slot {
  return { id, takes: [{ form: 'built-in' }], speaks: speaks('eMMC', 'emmc-hs400') }
}

const screws = (count: number, kind: string, lengthMm: number, where: string, hidden = ''): ScrewGroup => ({
  count,
  kind,
  lengthMm,
  where,
  hidden,
})

const DESKTOP: Chassis = {
  kind: 'desktop',
  hasBattery: false,
  cover: {
    name: 'side panel',
    screws: 2,
    screw: 'knurled 6-32 × 6 mm, at the back',
    how: 'Slide it back a thumb’s width, then lift it off.',
    groups: [],
  },
  driveMount: {
    screws: 4,
    screw: 'M3 × 5 mm, two on each side',
    how: 'Hold the drive while the last screw comes out.',
    groups: [],
  },
  connectors: [],
  movesOver: [],
  tools: ['Phillips 2'],
}
const TOWER: Chassis = {
  ...DESKTOP,
  kind: 'tower',
  movesOver: [{ name: 'bracket', how: 'Four M3 × 4 mm hold it; the drive slides out of it towards its plugs.' }],
}
const LAPTOP: Chassis = {
  kind: 'laptop',
  hasBattery: true,
  cover: {
    name: 'base',
    screws: 10,
    screw: 'five of 6 mm, five of 4 mm',
    how: 'Begin at the hinge with the plastic pick and go round.',
    groups: [
      screws(3, 'M2', 6, 'along the hinge'),
      screws(2, 'M2', 6, 'at the rear corners', 'the rear feet'),
      screws(5, 'M2', 4, 'along the front edge'),
    ],
  },
  driveMount: {
    screws: 1,
    screw: 'M2 × 3 mm',
    how: 'The module rises by itself; draw it out at that angle.',
    groups: [],
  },
  connectors: [],
  movesOver: [{ name: 'heat spreader', how: 'It is clipped round the module; open the clip at its end.' }],
  tools: ['Phillips 1', 'plastic pick'],
}
/** A one-piece computer whose drive is a blade of its own. */
const STUDIO: Chassis = {
  ...LAPTOP,
  kind: 'desktop',
  hasBattery: false,
  cover: {
    name: 'rear cover',
    screws: 4,
    screw: 'T8 × 5 mm, at the corners',
    how: 'Lift its lower edge first.',
    groups: [],
  },
  driveMount: { screws: 1, screw: 'T5 × 4 mm', how: 'Slide the blade straight out of its socket.', groups: [] },
  movesOver: [{ name: 'heat sensor', how: 'It is glued with a pad; lift it with the pick, not by its wire.' }],
  tools: ['Torx T8', 'Torx T5', 'plastic pick'],
}
const SERVER: Chassis = {
  ...DESKTOP,
  kind: 'server',
  cover: { name: 'lid', screws: 0, screw: '', how: 'Press the latch and slide it back.', groups: [] },
  driveMount: { screws: 0, screw: '', how: 'Press the carrier’s button and draw it out by its lever.', groups: [] },
  connectors: [{ name: 'Carrier', how: 'its plugs slide apart as it comes out.' }],
  movesOver: [{ name: 'carrier', how: 'Four M3 × 4 mm from below hold the drive in it.' }],
}

function firmware(mode: Firmware['mode'], rest: Partial<Firmware> = {}): Firmware {
  return {
    mode,
    secureBoot: mode === 'uefi',
    startsFromUsb: true,
    startsFromNvme: mode === 'uefi',
    startsBeyond2Tib: mode === 'uefi',
    bootMenuKey: 'F11',
    bootEntries: [],
    bootOrder: [],
    trustedSigners: [...SIGNERS],
    driveOrder: [],
    ...rest,
  }
}

type Model<T> = Omit<T, 'id' | 'name'>

const EVERY_COMPUTER = {
  processors: { count: 1, cores: 4 },
  networkCards: [{ name: 'Ethernet', link: 'ethernet-1' as const, address: null }],
  batteryPercent: null,
  running: 'off' as const,
  batteryOut: false,
  mains: true,
  programs: [] as Program[],
  sleepMinutes: null,
  online: true,
}

/** Made-up models of computers to start a description from, by the words of a choice. */
export const COMPUTER_MODELS = {
  'brezza-t20': {
    ...EVERY_COMPUTER,
    model: 'Brezza T20',
    firmware: firmware('uefi'),
    memoryBytes: 8 * GIB,
    slots: [sataSlot('SATA 0', 'sata-6', ['2.5-inch']), sataSlot('SATA 1', 'sata-6', ['2.5-inch'])],
    homeSlot: 'SATA 0',
    sockets: [
      { plug: 'A', link: 'usb-5', count: 4 },
      { plug: 'C', link: 'usb-10', count: 1 },
    ],
    chassis: DESKTOP,
  },
  'brezza-m4': {
    ...EVERY_COMPUTER,
    model: 'Brezza M4',
    firmware: firmware('bios'),
    memoryBytes: 4 * GIB,
    slots: [sataSlot('SATA 0', 'sata-3', ['2.5-inch', '3.5-inch'])],
    homeSlot: 'SATA 0',
    sockets: [{ plug: 'A', link: 'usb-2', count: 4 }],
    networkCards: [{ name: 'Ethernet', link: 'ethernet-100', address: null }],
    chassis: TOWER,
  },
  'brezza-studio': {
    ...EVERY_COMPUTER,
    model: 'Brezza Studio',
    firmware: firmware('uefi', { bootMenuKey: 'Alt' }),
    memoryBytes: 16 * GIB,
    slots: [bladeSlot('blade')],
    homeSlot: 'blade',
    sockets: [{ plug: 'A', link: 'usb-5', count: 4 }],
    chassis: STUDIO,
  },
  'brezza-studio-2': {
    ...EVERY_COMPUTER,
    model: 'Brezza Studio 2',
    firmware: firmware('uefi', { bootMenuKey: 'Alt' }),
    memoryBytes: 32 * GIB,
    slots: [sataSlot('SATA 0', 'sata-6', ['2.5-inch'])],
    homeSlot: 'SATA 0',
    sockets: [{ plug: 'A', link: 'usb-10', count: 4 }],
    chassis: { ...STUDIO, driveMount: DESKTOP.driveMount },
  },
  'tramonto-r1': {
    ...EVERY_COMPUTER,
    model: 'Tramonto R1',
    firmware: firmware('uefi'),
    memoryBytes: 32 * GIB,
    processors: { count: 2, cores: 4 },
    slots: [sataSlot('SATA 0', 'sata-6', ['3.5-inch']), sataSlot('SATA 1', 'sata-6', ['3.5-inch'])],
    homeSlot: 'SATA 0',
    sockets: [{ plug: 'A', link: 'usb-5', count: 2 }],
    networkCards: [
      { name: 'Ethernet 1', link: 'ethernet-1', address: null },
      { name: 'Ethernet 2', link: 'ethernet-1', address: null },
    ],
    chassis: SERVER,
  },
  'tramonto-l5': {
    ...EVERY_COMPUTER,
    model: 'Tramonto L5',
    firmware: firmware('uefi'),
    memoryBytes: 16 * GIB,
    slots: [nvmeSlot('M.2')],
    homeSlot: 'M.2',
    sockets: [
      { plug: 'C', link: 'usb-10', count: 2 },
      { plug: 'A', link: 'usb-5', count: 1 },
    ],
    networkCards: [],
    batteryPercent: 84,
    chassis: LAPTOP,
  },
  'tramonto-l3': {
    ...EVERY_COMPUTER,
    model: 'Tramonto L3',
    firmware: firmware('uefi'),
    memoryBytes: 8 * GIB,
    slots: [sataSlot('SATA 0', 'sata-6', ['2.5-inch'])],
    homeSlot: 'SATA 0',
    sockets: [{ plug: 'A', link: 'usb-5', count: 3 }],
    networkCards: [{ name: 'Ethernet', link: 'ethernet-1', address: null }],
    batteryPercent: 71,
    chassis: LAPTOP,
  },
  'tramonto-t9': {
    ...EVERY_COMPUTER,
    model: 'Tramonto T9',
    firmware: firmware('uefi'),
    memoryBytes: 16 * GIB,
    processors: { count: 1, cores: 8 },
    // Its maker's own controller, which no system knows by itself.
    slots: [
      { ...nvmeSlot('M.2'), drivers: ['trmst9'], deviceId: 'PCI\\VEN_1F5C&DEV_09A1&SUBSYS_00091F5C&REV_02' },
      sataSlot('SATA 0', 'sata-6', ['2.5-inch']),
    ],
    homeSlot: 'M.2',
    networkCards: [
      {
        name: 'Ethernet',
        link: 'ethernet-1',
        address: null,
        drivers: ['trmne9'],
        deviceId: 'PCI\\VEN_1F5C&DEV_2201&SUBSYS_00091F5C',
      },
    ],
    sockets: [
      { plug: 'A', link: 'usb-5', count: 4 },
      { plug: 'C', link: 'usb-10', count: 1 },
    ],
    chassis: DESKTOP,
  },
} satisfies Record<string, Model<Computer>>

const bothForms = ['2.5-inch', '3.5-inch'] as const

/** Made-up accessories that can be had; what one of them would open up is worked out with these. */
export const ACCESSORY_MODELS = {
  'dock-two': {
    name: 'USB dock, two bays',
    kind: 'dock',
    detail: 'two SATA bays, USB 5 Gb/s',
    plugs: ['A'],
    bays: [sataSlot('bay 1', 'usb-5', bothForms), sataSlot('bay 2', 'usb-5', bothForms)],
  },
  'sata-cable-2': {
    name: 'Cable adapter, USB 2',
    kind: 'cable',
    detail: 'SATA, USB 2',
    plugs: ['A'],
    bays: [sataSlot('plug', 'usb-2', ['2.5-inch'])],
  },
  'sata-cable-5': {
    name: 'Cable adapter, USB 5 Gb/s',
    kind: 'cable',
    detail: 'SATA, USB 5 Gb/s',
    plugs: ['A', 'C'],
    bays: [sataSlot('plug', 'usb-5', ['2.5-inch'])],
  },
  'nvme-enclosure': {
    name: 'NVMe enclosure',
    kind: 'enclosure',
    detail: 'M.2 M key, USB 10 Gb/s',
    plugs: ['C', 'A'],
    bays: [nvmeSlot('slot', 'usb-10')],
  },
  'm2-sata-enclosure': {
    name: 'M.2 SATA enclosure',
    kind: 'enclosure',
    detail: 'M.2 B key, SATA, USB 5 Gb/s',
    plugs: ['A'],
    bays: [
      {
        id: 'slot',
        takes: [{ form: 'M.2', sizes: ['2242', '2260', '2280'], key: 'B' }],
        speaks: speaks('SATA', 'usb-5'),
      },
    ],
  },
  'blade-enclosure': {
    name: 'Enclosure for Brezza Studio blades',
    kind: 'enclosure',
    detail: 'blades, USB 10 Gb/s',
    plugs: ['A', 'C'],
    bays: [{ ...bladeSlot('slot'), speaks: speaks('PCIe', 'usb-10') }],
  },
  bracket: { name: 'Bracket 2.5 to 3.5 inch', kind: 'bracket', detail: 'with four screws', count: 1 },
  stick: {
    name: 'Rescue stick',
    kind: 'stick',
    detail: 'accepted by Secure Boot',
    plug: 'A',
    signed: true,
    image: null,
  },
  host: {
    name: 'Host',
    kind: 'host',
    detail: 'for virtual machines and images',
    sockets: [
      { plug: 'A', link: 'usb-5', count: 2 },
      { plug: 'C', link: 'usb-10', count: 1 },
    ],
    network: 'ethernet-1',
    freeBytes: 2 * TIB,
    diskBytesPerSecond: 480e6,
    memoryBytes: 64 * GIB,
    cores: 16,
    diskFormats: ['vhdx', 'vhd'],
  },
  network: { name: 'Network', kind: 'network', detail: '1 Gb Ethernet', link: 'ethernet-1' },
} satisfies Record<string, AccessoryModel>

interface DriveModel {
  readonly label: string
  readonly model: string
  readonly kind: Drive['kind']
  readonly body: Body
  readonly protocol: Protocol
  readonly readBytesPerSecond: number
  readonly writeBytesPerSecond: number
  readonly requestSeconds: number
  readonly physicalSectorSize: number
}

const ssd = { kind: 'SSD', readBytesPerSecond: 520e6, writeBytesPerSecond: 460e6, requestSeconds: 0.0003 } as const
const disk = {
  kind: 'hard disk',
  readBytesPerSecond: 150e6,
  writeBytesPerSecond: 140e6,
  requestSeconds: 0.009,
} as const
const nvme = { readBytesPerSecond: 3300e6, writeBytesPerSecond: 2900e6, requestSeconds: 0.0001 } as const

/** Made-up models of drives to start a description from. */
export const DRIVE_MODELS = {
  'sata-ssd': { ...ssd, ...SATA_25, label: 'SSD, 2.5-inch SATA', model: 'Corvina S5', physicalSectorSize: 4096 },
  'disk-25': {
    ...disk,
    ...SATA_25,
    label: 'Hard disk, 2.5-inch SATA',
    model: 'Lampara H7',
    readBytesPerSecond: 92e6,
    writeBytesPerSecond: 88e6,
    physicalSectorSize: 4096,
  },
  'disk-35': { ...disk, ...SATA_35, label: 'Hard disk, 3.5-inch SATA', model: 'Corvina H5', physicalSectorSize: 4096 },
  nvme: {
    ...nvme,
    ...NVME_2280,
    kind: 'NVMe SSD',
    label: 'NVMe, M.2 2280',
    model: 'Tellina N2',
    physicalSectorSize: 4096,
  },
  'm2-sata': {
    ...ssd,
    body: { form: 'M.2', size: '2280', key: 'B+M' },
    protocol: 'SATA',
    label: 'SSD, M.2 2280 SATA',
    model: 'Tellina T1',
    physicalSectorSize: 4096,
  },
  blade: {
    ...STUDIO_BLADE,
    kind: 'blade SSD',
    label: 'Blade for Brezza Studio',
    model: 'Lampara B2',
    readBytesPerSecond: 1400e6,
    writeBytesPerSecond: 1000e6,
    requestSeconds: 0.0002,
    physicalSectorSize: 4096,
  },
  emmc: {
    ...BUILT_IN,
    kind: 'built-in storage',
    label: 'Built-in storage, eMMC',
    model: 'Tellina E1',
    readBytesPerSecond: 280e6,
    writeBytesPerSecond: 120e6,
    requestSeconds: 0.0003,
    physicalSectorSize: 4096,
  },
} satisfies Record<string, DriveModel>
