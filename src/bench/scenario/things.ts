import { capacityOf } from '@/core/things/capacity'
import type { Health } from '@/core/health/health'
import { type Accessory, AccessorySchema } from '@/core/things/accessory'
import type { BenchState } from '@/core/things/bench'
import { type Computer, ComputerSchema } from '@/core/things/computer'
import type { Drive } from '@/core/things/drive'
import { ACCESSORY_MODELS, COMPUTER_MODELS, NVME_2280, SATA_25, SATA_35, STUDIO_BLADE } from '../catalogue'
import { LIGHTING_DESK_LOST } from './disks/lighting-desk'
import { TICKET_DESK_ESP } from './disks/ticket-desk'

function drive(id: string, model: string, serial: string, gigabytes: number, rest: Partial<Drive>): Drive {
  return {
    id,
    model,
    serial,
    ...SATA_25,
    kind: 'SSD',
    sizeBytes: capacityOf(gigabytes),
    logicalSectorSize: 512,
    physicalSectorSize: 4096,
    readBytesPerSecond: 520e6,
    writeBytesPerSecond: 460e6,
    requestSeconds: 0.0003,
    encrypted: false,
    purpose: 'customer',
    unreadable: [],
    misstores: [],
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
    ...NVME_2280,
    kind: 'NVMe SSD',
    place: slot('field-laptop', 'M.2'),
    encrypted: true,
    readBytesPerSecond: 2400e6,
    writeBytesPerSecond: 1500e6,
    health: nvme(5_830, 41, 12),
  }),
  drive('tln2-2000', 'Tellina N2', 'TLN2-5530-7HW4', 2000, {
    ...NVME_2280,
    kind: 'NVMe SSD',
    place: bay('nvme-enclosure', 'slot'),
    health: nvme(1, 36, 0),
    readBytesPerSecond: 3300e6,
    writeBytesPerSecond: 2900e6,
  }),
  drive('tln2-1000', 'Tellina N2', 'TLN2-5530-8KV1', 1000, {
    ...NVME_2280,
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
    ...SATA_35,
    readBytesPerSecond: 150e6,
  }),
  drive('crh5-1000', 'Corvina H5', 'CRH5-4410-2LT3', 1000, {
    place: slot('logbook-server', 'SATA 1'),
    health: ata(52_290, 39, { reallocatedSectors: 8 }),
    kind: 'hard disk',
    ...SATA_35,
    readBytesPerSecond: 150e6,
  }),
  drive('lmb1-256', 'Lampara B1', 'LMB1-7025-5RM0', 256, {
    ...STUDIO_BLADE,
    readBytesPerSecond: 1400e6,
    writeBytesPerSecond: 1000e6,
    requestSeconds: 0.0002,
    kind: 'blade SSD',
    place: slot('editing-computer', 'blade'),
    health: ata(21_700, 47, { percentageUsed: 63 }),
  }),
  drive('lmb2-1000', 'Lampara B2', 'LMB2-1196-0FD6', 1000, {
    ...STUDIO_BLADE,
    readBytesPerSecond: 1400e6,
    writeBytesPerSecond: 1000e6,
    requestSeconds: 0.0002,
    kind: 'blade SSD',
    health: ata(0, 24, { percentageUsed: 0 }),
  }),
  drive('crv5-1000', 'Corvina S5', 'CRV5-2206-3MN1', 1000, {
    place: slot('cutting-room', 'SATA 0'),
    health: ata(4_310, 31, { percentageUsed: 6 }),
  }),
  drive('oss1-128', 'Ostrica S1', 'OSS1-7741-2LM9', 128, {
    place: slot('surveyor-old', 'SATA 0'),
    health: ata(14_060, 35, { percentageUsed: 58 }),
  }),
  drive('lmt4-4000', 'Lampara T4', 'LMT4-0093-8VA1', 4000, {
    ...SATA_35,
    kind: 'hard disk',
    purpose: 'transfer',
    readBytesPerSecond: 160e6,
    writeBytesPerSecond: 150e6,
    requestSeconds: 0.009,
    health: ata(9_115, 31),
  }),
  drive('tln1-1000', 'Tellina T1', 'TLN1-0422-6HB3', 1000, { health: ata(1, 25, { percentageUsed: 0 }) }),
  drive('crh2-250', 'Corvina H2', 'CRH2-1180-6QX0', 250, {
    kind: 'hard disk',
    place: { kind: 'shelf' },
    shelf: { label: 'Choir, old', until: '2026-04-27' },
    health: ata(61_880, 22, { reallocatedSectors: 3 }),
  }),
]

/** The drive of the honey house, which lends it. */
const HONEY_HOUSE_DRIVE = drive('oss1-256', 'Ostrica S1', 'OSS1-8813-5NC4', 256, {
  place: slot('honey-laptop', 'SATA 0'),
  health: ata(11_320, 34, { percentageUsed: 37 }),
})

function computer(
  id: string,
  name: string,
  model: keyof typeof COMPUTER_MODELS,
  { firmware, ...rest }: Partial<Omit<Computer, 'firmware'>> & { firmware?: Partial<Computer['firmware']> } = {},
): Computer {
  const made = ComputerSchema.parse({ id, name, ...COMPUTER_MODELS[model] })
  return { ...made, ...rest, firmware: { ...made.firmware, ...firmware } }
}

const COMPUTERS: Computer[] = [
  computer('ticket-desk', 'ticket desk', 'brezza-t20', {
    firmware: {
      bootEntries: [
        {
          id: '0003',
          name: 'Windows Boot Manager',
          partitionGuid: TICKET_DESK_ESP,
          path: '\\EFI\\Microsoft\\Boot\\bootmgfw.efi',
        },
      ],
      bootOrder: ['0003'],
    },
    running: 'system',
    programs: [
      { id: 'till', name: 'Ticket till', kind: 'program', running: true },
      { id: 'sync', name: 'Museum file sync', kind: 'sync', running: true },
      { id: 'watch', name: 'Virus watch', kind: 'antivirus', running: true },
    ],
    sleepMinutes: 30,
  }),
  computer('lighting-desk', 'lighting desk', 'brezza-m4'),
  computer('logbook-server', 'logbook server', 'tramonto-r1', {
    running: 'system',
    networkCards: [
      { name: 'Ethernet 1', link: 'ethernet-1', address: '192.168.7.20' },
      { name: 'Ethernet 2', link: 'ethernet-1', address: null },
    ],
  }),
  computer('field-laptop', 'field laptop', 'tramonto-l5'),
  computer('editing-computer', 'editing computer', 'brezza-studio'),
  computer('cutting-room', 'cutting-room computer', 'brezza-studio-2'),
  computer('surveyor-old', 'survey office PC', 'brezza-t20'),
  computer('surveyor-new', 'new survey office PC', 'tramonto-t9'),
]

const HONEY_LAPTOP = computer('honey-laptop', 'honey-house laptop', 'tramonto-l3', { running: 'stick' })

const accessory = (id: string, name: string, model: keyof typeof ACCESSORY_MODELS, rest: object = {}): Accessory =>
  AccessorySchema.parse({ ...ACCESSORY_MODELS[model], id, name, ...rest })

const ACCESSORIES: Accessory[] = [
  accessory('dock-a', 'USB dock A', 'dock-two'),
  accessory('cable-adapter', 'Cable adapter', 'sata-cable-2'),
  accessory('nvme-enclosure', 'NVMe enclosure', 'nvme-enclosure'),
  accessory('rescue-stick', 'rescue stick', 'stick', { image: 'rescue stick.qcow2' }),
  accessory('host', 'Workshop host', 'host'),
  accessory('network', 'Workshop network', 'network'),
]

/** Where the honey house lends its drive, in the demo. */
export const HONEY_HOUSE_PORT = 10809
export const HONEY_HOUSE = { id: 'miele-e-cera', name: 'Miele e Cera' }

/** The bench of Molo Sette on the morning of 4 May 2026, with what it knows of the honey house. */
export const SCENARIO_BENCH: BenchState = {
  computers: [...COMPUTERS, { ...HONEY_LAPTOP, farBenchId: HONEY_HOUSE.id }],
  accessories: [
    ...ACCESSORIES,
    { ...HONEY_HOUSE, detail: 'lends over the network', kind: 'far-bench', link: 'ethernet-1' },
  ],
  drives: [
    ...DRIVES,
    {
      ...HONEY_HOUSE_DRIVE,
      file: null,
      borrowed: {
        farBenchId: HONEY_HOUSE.id,
        address: `nbds://imbarco@127.0.0.1:${HONEY_HOUSE_PORT}/ostrica-s1-256-gb`,
        ...{ writable: false, state: 'not asked', bytesPerSecond: null },
      },
    },
  ],
}

/** The bench of the honey house: one laptop that runs from the stick. */
export const HONEY_HOUSE_BENCH: BenchState = {
  computers: [HONEY_LAPTOP],
  accessories: [
    accessory('rescue-stick', 'rescue stick', 'stick'),
    accessory('network', 'network to the shop', 'network'),
  ],
  drives: [HONEY_HOUSE_DRIVE],
}

/** Whose bench it is, as the sheet says it. */
export const SHOP = 'Molo Sette, Porto Salvia'

/** 09:00 on that day, shop time, in milliseconds; bench time has no zone. */
export const SCENARIO_START = Date.UTC(2026, 4, 4, 9, 0, 0)
