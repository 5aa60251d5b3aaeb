import fc from 'fast-check'
import type { Accessory } from '../things/accessory'
import type { Slot } from '../things/bodies'
import type { Computer } from '../things/computer'
import type { Drive } from '../things/drive'
import { benchOf, computer, dock, drive, host, network, stick } from '../things/testing'
import type { RouteQuestion } from './question'

const GIB = 2 ** 30

const sata = (id: string): Slot => ({
  id,
  takes: [{ form: '2.5-inch' }],
  speaks: [{ protocol: 'SATA', link: 'sata-6' }],
})
const blade = (id: string): Slot => ({
  id,
  takes: [{ form: 'blade', family: 'Studio' }],
  speaks: [{ protocol: 'PCIe', link: 'pcie-3x4' }],
})

/** A bench with one computer, its drive and a new one, and whatever else is on it. */
export interface SmallBench {
  readonly slots: 'one' | 'two' | 'blade'
  readonly dock: boolean
  readonly cable: boolean
  readonly stick: 'none' | 'signed' | 'unsigned'
  readonly host: boolean
  readonly transfer: boolean
  readonly startsFromUsb: boolean
  readonly newInDock: boolean
  readonly running: 'off' | 'system'
}

export const anySmallBench: fc.Arbitrary<SmallBench> = fc.record({
  slots: fc.constantFrom('one', 'two', 'blade'),
  dock: fc.boolean(),
  cable: fc.boolean(),
  stick: fc.constantFrom('none', 'signed', 'unsigned'),
  host: fc.boolean(),
  transfer: fc.boolean(),
  startsFromUsb: fc.boolean(),
  newInDock: fc.boolean(),
  running: fc.constantFrom('off', 'system'),
})

/** The question of a move on a small bench: the system of its computer onto the new drive. */
export function smallQuestion(small: SmallBench): RouteQuestion {
  const desk: Computer = computer('desk', {
    slots: small.slots === 'blade' ? [blade('S0')] : small.slots === 'two' ? [sata('S0'), sata('S1')] : [sata('S0')],
    homeSlot: 'S0',
    running: small.running,
    networkCards: [{ name: 'Ethernet', link: 'ethernet-1', address: null }],
    firmware: { ...computer('desk').firmware, startsFromUsb: small.startsFromUsb },
  })
  const accessories: Accessory[] = [
    ...(small.dock ? [dock('dock')] : []),
    ...(small.cable
      ? [dock('cable', { kind: 'cable', bays: [{ ...sata('plug'), speaks: [{ protocol: 'SATA', link: 'usb-2' }] }] })]
      : []),
    ...(small.stick === 'none' ? [] : [stick('stick', small.stick === 'signed')]),
    ...(small.host ? [host(), network()] : []),
  ]
  const kind: Partial<Drive> =
    small.slots === 'blade' ? { body: { form: 'blade', family: 'Studio' }, protocol: 'PCIe', kind: 'blade SSD' } : {}
  const inDock = small.newInDock && small.dock && small.slots !== 'blade'
  const drives = [
    drive('old', { ...kind, place: { kind: 'slot', computerId: 'desk', slot: 'S0' } }),
    drive('new', {
      ...kind,
      sizeBytes: 960e9,
      place: inDock ? { kind: 'bay', accessoryId: 'dock', bay: 'bay 1' } : { kind: 'table' },
    }),
    ...(small.transfer
      ? [drive('carrier', { purpose: 'transfer', sizeBytes: 4000e9, body: { form: '3.5-inch' } })]
      : []),
  ]
  return {
    bench: benchOf([desk], accessories, drives),
    computerId: 'desk',
    goal: { kind: 'computer', computerId: 'desk' },
    pairs: [{ sourceId: 'old', targetId: 'new', bytes: 100 * GIB, imagesAt: [] }],
    roomOn: small.transfer ? { carrier: { bytes: 3000 * GIB, limitedBy: null } } : {},
    claimedDrives: [],
    past: {},
  }
}
