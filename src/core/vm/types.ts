import * as z from 'zod'
import { line } from '../words-schema'

/** What a controller of a virtual machine is to the system in it, the quickest first. */
export const CONTROLLERS = ['nvme', 'sata', 'ide'] as const
export type ControllerKind = (typeof CONTROLLERS)[number]

/** Drivers by which a system reaches a controller of a kind: services of Windows. Linux brings its own. */
export const CONTROLLER_DRIVERS: Readonly<Record<ControllerKind, readonly string[]>> = {
  nvme: ['stornvme'],
  sata: ['storahci'],
  ide: ['intelide', 'atapi'],
}

export const CONTROLLER_NAMES: Readonly<Record<ControllerKind, string>> = { nvme: 'NVMe', sata: 'SATA', ide: 'IDE' }

/** How many disks a controller of a kind takes. */
export const CONTROLLER_PLACES: Readonly<Record<ControllerKind, number>> = { nvme: 15, sata: 6, ide: 4 }

const bytes = z
  .number()
  .int()
  .positive()
  .max(2 ** 50)

/** A disk of a virtual machine; `file` is the name of its image in the package, or in the store. */
export const VirtualDiskSchema = z.object({
  file: line().trim().min(1).max(200),
  sizeBytes: bytes,
  controller: z.enum(CONTROLLERS),
  /** Its place at the controller. */
  place: z.number().int().min(0).max(14),
})
export type VirtualDisk = z.infer<typeof VirtualDiskSchema>

/** What a virtual machine is. */
export const VirtualMachineSchema = z.object({
  name: line().trim().min(1).max(80),
  firmware: z.enum(['uefi', 'bios']),
  secureBoot: z.boolean(),
  /** Both the same where it is fixed. */
  memory: z.object({ leastBytes: bytes, mostBytes: bytes }),
  processors: z.number().int().min(1).max(1024),
  disks: z.array(VirtualDiskSchema).min(1).max(30),
  networkCards: z
    .array(
      z.object({
        name: line().trim().min(1).max(40),
        connected: z.boolean(),
        /** 0 for none. */
        vlan: z.number().int().min(0).max(4094),
      }),
    )
    .max(8),
})
export type VirtualMachine = z.infer<typeof VirtualMachineSchema>
