import { GIB } from '@/core/bytes/size'
import type { Firmware } from '@/core/boot/types'
import type { Chassis } from '@/core/swap/steps'
import type { Accessory, BenchState, Computer, Drive } from '../types'
import type { Health } from '@/core/health/health'
import { LIGHTING_DESK_LOST } from './disks/lighting-desk'
import { TICKET_DESK_ESP } from './disks/ticket-desk'

const SATA = '2.5-inch SATA'
const SATA_LARGE = '3.5-inch SATA'
const NVME = 'M.2 2280 M-key NVMe'
const BLADE = 'proprietary blade'

/** Capacity in bytes of a drive sold as so many GB with 512-byte sectors, by the drive makers' rule. */
export function capacityOf(gigabytes: number): number {
  return (97_696_368 + 1_953_504 * (gigabytes - 50)) * 512
}

function drive(id: string, model: string, serial: string, gigabytes: number, rest: Partial<Drive>): Drive {
  return {
    id,
    model,
    serial,
    interfaceName: SATA,
    kind: 'SSD',
    sizeBytes: capacityOf(gigabytes),
    logicalSectorSize: 512,
    physicalSectorSize: 4096,
    readBytesPerSecond: 520e6,
    writeBytesPerSecond: 460e6,
    requestSeconds: 0.0003,
    encrypted: false,
    unreadable: [],
    file: `${id}.img`,
    image: null,
    place: { kind: 'table' },
    ...rest,
  }
}

const slot = (computerId: string, name: string) => ({ kind: 'slot' as const, computerId, slot: name })
const bay = (accessoryId: string, name: string) => ({ kind: 'bay' as const, accessoryId, bay: name })

/** What a sound SSD or hard disk reports. */
function ata(powerOnHours: number, temperatureCelsius: number, rest: Partial<Health> = {}): Health {
  const sectors = { reallocatedSectors: 0, pendingSectors: 0, uncorrectableSectors: 0 }
  return { powerOnHours, temperatureCelsius, ...sectors, ...rest }
}

function nvme(powerOnHours: number, temperatureCelsius: number, percentageUsed: number): Health {
  return { powerOnHours, temperatureCelsius, percentageUsed, availableSpare: 100, spareThreshold: 10, mediaErrors: 0 }
}

const DRIVES: Drive[] = [
  drive('crv3-240', 'Corvina S3', 'CRV3-8841-07KD', 240, {
    place: slot('ticket-desk', 'SATA 0'),
    readBytesPerSecond: 430e6,
    writeBytesPerSecond: 340e6,
    requestSeconds: 0.0005,
    health: ata(19_240, 33, { percentageUsed: 41 }),
  }),
  drive('crv5-960', 'Corvina S5', 'CRV5-2207-4M1Q', 960, {
    place: bay('dock-a', 'bay 1'),
    health: ata(2, 27, { percentageUsed: 0 }),
  }),
  drive('lmp7-320', 'Lampara H7', 'LMP7-3310-1ZC8', 320, {
    place: slot('lighting-desk', 'SATA 0'),
    kind: 'hard disk',
    readBytesPerSecond: 92e6,
    writeBytesPerSecond: 88e6,
    requestSeconds: 0.009,
    health: ata(38_410, 44, { reallocatedSectors: 212, pendingSectors: 41, uncorrectableSectors: 7 }),
    unreadable: [...LIGHTING_DESK_LOST],
  }),
  drive('tln1-256', 'Tellina T1', 'TLN1-0419-9QX2', 256, { health: ata(1, 26, { percentageUsed: 0 }) }),
  drive('osn1-512', 'Ostrica N1', 'OSN1-6620-3BT7', 512, {
    interfaceName: NVME,
    kind: 'NVMe SSD',
    place: slot('field-laptop', 'M.2'),
    encrypted: true,
    readBytesPerSecond: 2400e6,
    writeBytesPerSecond: 1500e6,
    health: nvme(5_830, 41, 12),
  }),
  drive('tln2-2000', 'Tellina N2', 'TLN2-5530-7HW4', 2000, {
    interfaceName: NVME,
    kind: 'NVMe SSD',
    place: bay('nvme-enclosure', 'slot'),
    health: nvme(1, 36, 0),
    readBytesPerSecond: 3300e6,
    writeBytesPerSecond: 2900e6,
  }),
  drive('tln2-1000', 'Tellina N2', 'TLN2-5530-8KV1', 1000, {
    interfaceName: NVME,
    kind: 'NVMe SSD',
    place: slot('surveyor-new', 'M.2'),
    health: nvme(3, 34, 0),
    readBytesPerSecond: 3300e6,
    writeBytesPerSecond: 2900e6,
  }),
  drive('crh5-500', 'Corvina H5', 'CRH5-4410-2LS9', 500, {
    place: slot('logbook-server', 'SATA 0'),
    health: ata(52_310, 38),
    kind: 'hard disk',
    interfaceName: SATA_LARGE,
    readBytesPerSecond: 150e6,
  }),
  drive('crh5-1000', 'Corvina H5', 'CRH5-4410-2LT3', 1000, {
    place: slot('logbook-server', 'SATA 1'),
    health: ata(52_290, 39, { reallocatedSectors: 8 }),
    kind: 'hard disk',
    interfaceName: SATA_LARGE,
    readBytesPerSecond: 150e6,
  }),
  drive('lmb1-256', 'Lampara B1', 'LMB1-7025-5RM0', 256, {
    interfaceName: BLADE,
    kind: 'blade SSD',
    place: slot('editing-computer', 'blade'),
    health: ata(21_700, 47, { percentageUsed: 63 }),
  }),
  drive('lmb2-1000', 'Lampara B2', 'LMB2-1196-0FD6', 1000, {
    interfaceName: BLADE,
    kind: 'blade SSD',
    health: ata(0, 24, { percentageUsed: 0 }),
  }),
  drive('oss1-128', 'Ostrica S1', 'OSS1-7741-2LM9', 128, {
    place: slot('surveyor-old', 'SATA 0'),
    health: ata(14_060, 35, { percentageUsed: 58 }),
  }),
  drive('lmt4-4000', 'Lampara T4', 'LMT4-0093-8VA1', 4000, {
    kind: 'hard disk',
    interfaceName: SATA_LARGE,
    readBytesPerSecond: 160e6,
    health: ata(9_115, 31),
  }),
  drive('crh2-250', 'Corvina H2', 'CRH2-1180-6QX0', 250, {
    kind: 'hard disk',
    place: { kind: 'shelf' },
    shelf: { label: 'Choir, old', until: '2026-04-27' },
    health: ata(61_880, 22, { reallocatedSectors: 3 }),
  }),
]

const DESKTOP: Chassis = {
  kind: 'desktop',
  hasBattery: false,
  cover: {
    name: 'side panel',
    screws: 2,
    screw: 'knurled 6-32 × 6 mm, at the back',
    how: 'Slide it back a thumb’s width, then lift it off.',
  },
  driveMount: { screws: 4, screw: 'M3 × 5 mm, two on each side', how: 'Hold the drive while the last one comes out.' },
  tools: ['Phillips 2'],
}
const TOWER: Chassis = { ...DESKTOP, kind: 'tower' }
const LAPTOP: Chassis = {
  kind: 'laptop',
  hasBattery: true,
  cover: {
    name: 'base',
    screws: 10,
    screw: 'five of 6 mm, five of 4 mm',
    how: 'Two of the long ones are under the rear feet.',
  },
  driveMount: { screws: 1, screw: 'M2 × 3 mm', how: 'The blade rises by itself; draw it out at that angle.' },
  tools: ['Phillips 1', 'plastic pick'],
}
const SERVER: Chassis = {
  ...DESKTOP,
  kind: 'server',
  cover: { name: 'lid', screws: 0, screw: '', how: 'Press the latch and slide it back.' },
}

function firmware(mode: Firmware['mode'], rest: Partial<Firmware> = {}): Firmware {
  return { mode, secureBoot: mode === 'uefi', bootMenuKey: 'F11', bootEntries: [], bootOrder: [], ...rest }
}

function computer(id: string, name: string, model: string, rest: Partial<Computer>): Computer {
  return {
    id,
    name,
    model,
    firmware: firmware('uefi'),
    memoryBytes: 8 * GIB,
    slots: [{ id: 'SATA 0', interfaceName: SATA, link: 'sata-6' }],
    homeSlot: 'SATA 0',
    chassis: DESKTOP,
    running: 'off',
    mains: true,
    ...rest,
  }
}

const COMPUTERS: Computer[] = [
  computer('ticket-desk', 'ticket desk', 'Brezza T20', {
    firmware: firmware('uefi', {
      bootEntries: [
        {
          id: '0003',
          name: 'Windows Boot Manager',
          partitionGuid: TICKET_DESK_ESP,
          path: '\\EFI\\Microsoft\\Boot\\bootmgfw.efi',
        },
      ],
      bootOrder: ['0003'],
    }),
    slots: [
      { id: 'SATA 0', interfaceName: SATA, link: 'sata-6' },
      { id: 'SATA 1', interfaceName: SATA, link: 'sata-6' },
    ],
    running: 'system',
  }),
  computer('lighting-desk', 'lighting desk', 'Brezza M4', {
    firmware: firmware('bios'),
    memoryBytes: 4 * GIB,
    chassis: TOWER,
  }),
  computer('logbook-server', 'logbook server', 'Tramonto R1', {
    memoryBytes: 32 * GIB,
    chassis: SERVER,
    slots: [
      { id: 'SATA 0', interfaceName: SATA_LARGE, link: 'sata-6' },
      { id: 'SATA 1', interfaceName: SATA_LARGE, link: 'sata-6' },
    ],
    running: 'system',
  }),
  computer('field-laptop', 'field laptop', 'Tramonto L5', {
    memoryBytes: 16 * GIB,
    chassis: LAPTOP,
    slots: [{ id: 'M.2', interfaceName: NVME, link: 'pcie-3x4' }],
    homeSlot: 'M.2',
  }),
  computer('editing-computer', 'editing computer', 'Brezza Studio', {
    memoryBytes: 16 * GIB,
    slots: [{ id: 'blade', interfaceName: BLADE, link: 'pcie-3x4' }],
    homeSlot: 'blade',
  }),
  computer('surveyor-old', 'survey office PC', 'Brezza T20', {}),
  computer('surveyor-new', 'new survey office PC', 'Tramonto T9', {
    memoryBytes: 16 * GIB,
    slots: [{ id: 'M.2', interfaceName: NVME, link: 'pcie-3x4' }],
    homeSlot: 'M.2',
  }),
]

const ACCESSORIES: Accessory[] = [
  {
    id: 'dock-a',
    name: 'USB dock A',
    kind: 'dock',
    detail: 'two SATA bays, USB 5 Gb/s',
    bays: [
      { id: 'bay 1', interfaceName: SATA, link: 'usb-5' },
      { id: 'bay 2', interfaceName: SATA, link: 'usb-5' },
    ],
  },
  {
    id: 'cable-adapter',
    name: 'Cable adapter',
    kind: 'cable',
    detail: 'SATA, USB 2',
    bays: [{ id: 'plug', interfaceName: SATA, link: 'usb-2' }],
  },
  {
    id: 'nvme-enclosure',
    name: 'NVMe enclosure',
    kind: 'enclosure',
    detail: 'M.2 M-key, USB 10 Gb/s',
    bays: [{ id: 'slot', interfaceName: NVME, link: 'usb-10' }],
  },
  { id: 'rescue-stick', name: 'rescue stick', kind: 'stick', detail: 'accepted by Secure Boot', bays: [] },
  { id: 'host', name: 'Workshop host', kind: 'host', detail: 'for virtual machines', bays: [] },
  { id: 'network', name: 'Workshop network', kind: 'network', detail: '1 Gb Ethernet', bays: [] },
]

/** The bench of Molo Sette on the morning of 4 May 2026. */
export const SCENARIO_BENCH: BenchState = { computers: COMPUTERS, accessories: ACCESSORIES, drives: DRIVES }

/** Whose bench it is, as the sheet says it. */
export const SHOP = 'Molo Sette, Porto Salvia'

/** 09:00 on that day, shop time, in milliseconds; bench time has no zone. */
export const SCENARIO_START = Date.UTC(2026, 4, 4, 9, 0, 0)
