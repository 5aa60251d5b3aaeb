import { SIGNERS } from '../boot/types'
import type { Slot } from '../things/bodies'
import type { Computer } from '../things/computer'
import type { Drive } from '../things/drive'
import {
  CONTROLLER_DRIVERS,
  CONTROLLER_NAMES,
  CONTROLLER_PLACES,
  type ControllerKind,
  type VirtualMachine,
  VirtualMachineSchema,
} from './types'

/** The places at the controllers of a virtual machine, as slots; one controller for each kind that a disk is at. */
export function slotsOfMachine({ disks }: Pick<VirtualMachine, 'disks'>): Slot[] {
  const kinds = [...new Set(disks.map((d) => d.controller))]
  return kinds.flatMap((kind) => Array.from({ length: CONTROLLER_PLACES[kind] }, (_, place) => slotOf(kind, place)))
}

function slotOf(kind: ControllerKind, place: number): Slot {
  const nvme = kind === 'nvme'
  return {
    id: `${CONTROLLER_NAMES[kind]} ${place}`,
    takes: [{ form: 'virtual' }],
    speaks: [{ protocol: nvme ? 'PCIe' : 'SATA', link: nvme ? 'pcie-3x4' : 'sata-6' }],
    drivers: [...CONTROLLER_DRIVERS[kind]],
  }
}

/** The slot of a disk. */
export const slotOfDisk = ({ controller, place }: VirtualMachine['disks'][number]) => slotOf(controller, place).id

/** A virtual machine as a thing of the bench, switched off. */
export function computerOfMachine(machine: VirtualMachine, { id, hostId }: { id: string; hostId: string }): Computer {
  const { name, firmware, secureBoot, memory, processors, disks, networkCards } = machine
  return {
    id,
    name,
    model: 'Virtual machine',
    firmware: {
      mode: firmware,
      secureBoot,
      startsFromUsb: false,
      startsFromNvme: true,
      startsBeyond2Tib: firmware === 'uefi',
      bootMenuKey: 'Esc',
      bootEntries: [],
      bootOrder: [],
      trustedSigners: [...SIGNERS],
      driveOrder: [],
    },
    memoryBytes: memory.mostBytes,
    processors: { count: 1, cores: Math.min(256, processors) },
    slots: slotsOfMachine(machine),
    homeSlot: slotOfDisk(disks[0]),
    sockets: [],
    networkCards: networkCards.map(({ name: card, connected, vlan }) => ({
      name: card,
      link: 'ethernet-1',
      address: null,
      unplugged: !connected,
      ...(vlan > 0 ? { vlan } : {}),
    })),
    batteryPercent: null,
    chassis: {
      kind: 'virtual',
      hasBattery: false,
      cover: { name: 'settings', screws: 0, screw: '', how: '', groups: [] },
      driveMount: { screws: 0, screw: '', how: '', groups: [] },
      connectors: [],
      movesOver: [],
      tools: [],
    },
    running: 'off',
    batteryOut: false,
    mains: true,
    programs: [],
    sleepMinutes: null,
    virtual: { hostId, leastMemoryBytes: memory.leastBytes },
    online: true,
  }
}

/** A computer of the bench that is a virtual machine, as one, with the drives in its slots as its disks. */
export function machineOf(
  computer: Computer,
  drives: readonly (Pick<Drive, 'sizeBytes' | 'place'> & { file: string })[],
) {
  const { name, firmware, memoryBytes, virtual, processors, networkCards } = computer
  const kinds = Object.keys(CONTROLLER_NAMES) as ControllerKind[]
  const disks = drives.flatMap(({ sizeBytes, place, file }) => {
    const slot = place.kind === 'slot' ? place.slot : ''
    const controller = kinds.find((kind) => slot.startsWith(`${CONTROLLER_NAMES[kind]} `))
    return controller ? [{ file, sizeBytes, controller, place: Number(slot.split(' ').at(-1)) }] : []
  })
  return VirtualMachineSchema.parse({
    name,
    firmware: firmware.mode,
    secureBoot: firmware.secureBoot,
    memory: { leastBytes: virtual?.leastMemoryBytes ?? memoryBytes, mostBytes: memoryBytes },
    processors: processors.count * processors.cores,
    disks,
    networkCards: networkCards.map(({ name: card, unplugged, vlan }) => ({
      name: card,
      connected: unplugged !== true,
      vlan: vlan ?? 0,
    })),
  })
}

/** A disk of a virtual machine as a drive in one of its slots. */
export function driveOfDisk(
  disk: VirtualMachine['disks'][number],
  at: { readonly id: string; readonly computerId: string; readonly serial: string; readonly name: string },
  { sectorSize, bytesPerSecond }: { readonly sectorSize: 512 | 4096; readonly bytesPerSecond: number },
): Drive {
  return {
    id: at.id,
    model: at.name,
    serial: at.serial,
    body: { form: 'virtual' },
    protocol: disk.controller === 'nvme' ? 'PCIe' : 'SATA',
    kind: 'virtual disk',
    sizeBytes: disk.sizeBytes,
    logicalSectorSize: sectorSize,
    physicalSectorSize: 4096,
    readBytesPerSecond: bytesPerSecond,
    writeBytesPerSecond: bytesPerSecond,
    requestSeconds: 0.0002,
    encrypted: false,
    purpose: 'customer',
    unreadable: [],
    misstores: [],
    file: null,
    image: disk.file,
    place: { kind: 'slot', computerId: at.computerId, slot: slotOfDisk(disk) },
  }
}
