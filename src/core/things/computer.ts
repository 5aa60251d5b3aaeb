import * as z from 'zod'
import { line } from '../words-schema'
import { FirmwareSchema } from '../boot/types'
import { DeviceIdSchema } from '../drivers/device'
import { SlotSchema } from './bodies'
import { ChassisSchema } from './chassis'
import { NetworkLinkSchema, SocketSchema } from './links'

/** So many network cards a computer of a bench has at most. */
export const MOST_NETWORK_CARDS = 8

export const NetworkCardSchema = z.object({
  name: line().trim().min(1).max(40),
  link: NetworkLinkSchema,
  /** A fixed address, when it has one. */
  address: line().max(45).nullable().default(null),
  /** Drivers that serve it, by their service names, where no system has one by itself. */
  drivers: z.array(line().min(1).max(40)).max(8).optional(),
  /** What it says that it is. */
  deviceId: DeviceIdSchema.optional(),
  /** Of a virtual machine: it does not hang at the network. */
  unplugged: z.boolean().optional(),
  /** Of a virtual machine: the VLAN that it is in. */
  vlan: z.number().int().min(1).max(4094).optional(),
})
export type NetworkCard = z.infer<typeof NetworkCardSchema>

/** Something that runs in its own system and writes to its drives. */
export const ProgramSchema = z.object({
  id: line().min(1).max(40),
  name: line().trim().min(1).max(60),
  kind: z.enum(['sync', 'antivirus', 'mail', 'program']),
  running: z.boolean(),
})
export type Program = z.infer<typeof ProgramSchema>

export const ComputerSchema = z.object({
  id: line().min(1).max(80),
  name: line().trim().min(1).max(80),
  model: line().trim().min(1).max(80),
  firmware: FirmwareSchema,
  memoryBytes: z
    .number()
    .int()
    .positive()
    .max(2 ** 50),
  processors: z
    .object({ count: z.number().int().min(1).max(16), cores: z.number().int().min(1).max(256) })
    .default({ count: 1, cores: 4 }),
  slots: z.array(SlotSchema).min(1).max(24),
  /** The slot it starts from when it is whole. */
  homeSlot: line().max(40),
  sockets: z.array(SocketSchema).max(6).default([]),
  networkCards: z.array(NetworkCardSchema).max(MOST_NETWORK_CARDS).default([]),
  /** Charge in per cent, for one that has a battery. */
  batteryPercent: z.number().min(0).max(100).nullable().default(null),
  chassis: ChassisSchema,
  /** What it is doing: switched off, running its own system, or the rescue stick. */
  running: z.enum(['off', 'system', 'stick']),
  /** Its battery is unplugged from the board. */
  batteryOut: z.boolean().default(false),
  mains: z.boolean(),
  programs: z.array(ProgramSchema).max(20).default([]),
  /** After so many minutes without a hand it goes to sleep; null for never. */
  sleepMinutes: z.number().int().positive().max(1440).nullable().default(null),
  /** A virtual machine: the host that it runs on, and the least memory that it is given; the most is its memory. */
  virtual: z
    .object({
      hostId: line().min(1).max(80),
      leastMemoryBytes: z
        .number()
        .int()
        .positive()
        .max(2 ** 50),
    })
    .optional(),
  /** The bench that it stands at, where that is another one which lends drives to this. */
  farBenchId: line().min(1).max(80).optional(),
  /** Imbarco itself runs on it: its drives are those that its kernel has. */
  isThis: z.boolean().optional(),
  /** Its network is on. */
  online: z.boolean().default(true),
})
export type Computer = z.infer<typeof ComputerSchema>
