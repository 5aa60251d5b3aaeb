import { SIGNERS } from '../boot/types'
import fc from 'fast-check'
import type { Accessory, Adapter } from './accessory'
import { type Body, M2_SIZES, type Slot } from './bodies'
import type { BenchState } from './bench'
import type { Computer } from './computer'
import type { Drive } from './drive'

// Things for tests, each sound by itself; what a test is about is given.

export function drive(id: string, rest: Partial<Drive> = {}): Drive {
  return {
    id,
    model: `Model ${id}`,
    serial: `SER-${id.toUpperCase()}-0001`,
    body: { form: '2.5-inch' },
    protocol: 'SATA',
    kind: 'SSD',
    sizeBytes: 240e9,
    logicalSectorSize: 512,
    physicalSectorSize: 4096,
    readBytesPerSecond: 520e6,
    writeBytesPerSecond: 460e6,
    requestSeconds: 0,
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

export function computer(id: string, rest: Partial<Computer> = {}): Computer {
  return {
    id,
    name: id,
    model: 'Brezza T20',
    firmware: {
      mode: 'uefi',
      secureBoot: true,
      startsFromUsb: true,
      startsFromNvme: true,
      startsBeyond2Tib: true,
      bootMenuKey: 'F11',
      bootEntries: [],
      bootOrder: [],
      trustedSigners: [...SIGNERS],
      driveOrder: [],
    },
    memoryBytes: 2 ** 33,
    processors: { count: 1, cores: 4 },
    slots: [{ id: 'SATA 0', takes: [{ form: '2.5-inch' }], speaks: [{ protocol: 'SATA', link: 'sata-6' }] }],
    homeSlot: 'SATA 0',
    sockets: [{ plug: 'A', link: 'usb-5', count: 3 }],
    networkCards: [],
    batteryPercent: null,
    programs: [],
    sleepMinutes: null,
    online: true,
    chassis: {
      kind: 'desktop',
      hasBattery: false,
      cover: { name: 'side panel', screws: 2, screw: '6-32 × 6 mm', how: 'Slide it back.', groups: [] },
      driveMount: { screws: 4, screw: 'M3 × 5 mm', how: 'Hold the drive.', groups: [] },
      connectors: [],
      movesOver: [],
      tools: ['Phillips 2'],
    },
    running: 'off',
    batteryOut: false,
    mains: true,
    ...rest,
  }
}

/** A dock of two SATA bays with an A plug. */
export function dock(id: string, rest: Partial<Adapter> = {}): Adapter {
  const bay = (name: string) => ({
    id: name,
    takes: [{ form: '2.5-inch' as const }, { form: '3.5-inch' as const }],
    speaks: [{ protocol: 'SATA' as const, link: 'usb-5' as const }],
  })
  return { id, name: id, kind: 'dock', detail: '', plugs: ['A'], bays: [bay('bay 1'), bay('bay 2')], ...rest }
}

export function stick(id = 'stick', signed = true): Accessory {
  return { id, name: id, kind: 'stick', detail: '', plug: 'A', signed, image: null }
}

export function host(id = 'host'): Accessory {
  return {
    id,
    name: id,
    kind: 'host',
    diskFormats: ['vhdx', 'vhd'],
    detail: '',
    sockets: [{ plug: 'A', link: 'usb-5', count: 2 }],
    network: 'ethernet-1',
    freeBytes: 2e12,
    diskBytesPerSecond: 480e6,
    memoryBytes: 2 ** 36,
    cores: 16,
  }
}

export function network(id = 'lan'): Accessory {
  return { id, name: id, kind: 'network', detail: '', link: 'ethernet-1' }
}

export function benchOf(
  computers: readonly Computer[],
  accessories: readonly Accessory[],
  drives: readonly Drive[],
): BenchState {
  return { computers, accessories, drives }
}

/** Any form of a drive. */
export const anyBody: fc.Arbitrary<Body> = fc.oneof(
  fc.constant<Body>({ form: '2.5-inch' }),
  fc.constant<Body>({ form: '3.5-inch' }),
  fc.record({
    form: fc.constant('M.2' as const),
    size: fc.constantFrom(...M2_SIZES),
    key: fc.constantFrom('B' as const, 'M' as const, 'B+M' as const),
  }),
  fc.record({ form: fc.constant('blade' as const), family: fc.constantFrom('Studio', 'Atelier') }),
)

const speaks: fc.Arbitrary<Slot['speaks']> = fc.constantFrom<Slot['speaks']>(
  [{ protocol: 'SATA', link: 'sata-6' }],
  [{ protocol: 'PCIe', link: 'pcie-3x4' }],
  [
    { protocol: 'SATA', link: 'sata-6' },
    { protocol: 'PCIe', link: 'pcie-3x4' },
  ],
)

/** Any slot that a form can describe. */
export const anySlot: fc.Arbitrary<Slot> = fc.record({
  id: fc.constant('slot'),
  takes: fc.oneof(
    fc.constant<Slot['takes']>([{ form: '2.5-inch' }]),
    fc.constant<Slot['takes']>([{ form: '3.5-inch' }]),
    fc.constant<Slot['takes']>([{ form: '2.5-inch' }, { form: '3.5-inch' }]),
    fc
      .record({
        form: fc.constant('M.2' as const),
        sizes: fc.subarray([...M2_SIZES], { minLength: 1 }),
        key: fc.constantFrom('B' as const, 'M' as const),
      })
      .map((t) => [t]),
    fc.constantFrom('Studio', 'Atelier').map((family): Slot['takes'] => [{ form: 'blade', family }]),
  ),
  speaks,
})
