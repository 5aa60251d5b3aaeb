import * as z from 'zod'
import { line } from '../words-schema'
import { type Slot, SlotSchema } from './bodies'
import { NetworkLinkSchema, PlugSchema, SocketSchema } from './links'

/** Formats of virtual disks, the one that is rather taken first: those that a repair writes where they lie, the safest before. */
export const DISK_FORMATS = ['vhdx', 'vhd', 'raw', 'qcow2', 'vmdk'] as const
export type DiskFormat = (typeof DISK_FORMATS)[number]
/** As the trade writes it. */
export const diskFormatName = (format: DiskFormat): string => (format === 'raw' ? format : format.toUpperCase())

const base = {
  id: line().min(1).max(80),
  name: line().trim().min(1).max(80),
  detail: line().trim().max(120),
}

/** What is plugged into a computer by USB and takes drives. */
const adapter = { ...base, plugs: z.array(PlugSchema).min(1).max(2), bays: z.array(SlotSchema).min(1).max(16) }

export const AccessorySchema = z.discriminatedUnion('kind', [
  z.object({ ...adapter, kind: z.literal('dock') }),
  z.object({ ...adapter, kind: z.literal('enclosure') }),
  z.object({ ...adapter, kind: z.literal('cable') }),
  /** Holds a 2.5-inch drive where a 3.5-inch one goes. */
  z.object({ ...base, kind: z.literal('bracket'), count: z.number().int().min(1).max(99) }),
  /** `signed`: accepted by Secure Boot. `image`: the image in the images folder with what is on it, drivers too. */
  z.object({
    ...base,
    kind: z.literal('stick'),
    plug: PlugSchema,
    signed: z.boolean(),
    image: line().trim().max(180).nullable().default(null),
  }),
  /** A computer of the shop: runs virtual machines, stores images, and copies what is plugged into it. */
  z.object({
    ...base,
    kind: z.literal('host'),
    sockets: z.array(SocketSchema).max(6),
    network: NetworkLinkSchema.nullable(),
    freeBytes: z
      .number()
      .int()
      .nonnegative()
      .max(2 ** 53),
    diskBytesPerSecond: z.number().positive().max(1e12),
    memoryBytes: z
      .number()
      .int()
      .positive()
      .max(2 ** 50),
    cores: z.number().int().min(1).max(1024),
    /** Of virtual disks, those that its machines run from. */
    diskFormats: z.array(z.enum(DISK_FORMATS)).min(1).max(DISK_FORMATS.length).default(['vhdx', 'vhd']),
  }),
  z.object({ ...base, kind: z.literal('network'), link: NetworkLinkSchema }),
  /** Another bench that is reached over the network and lends drives, with the link to it. */
  z.object({ ...base, kind: z.literal('far-bench'), link: NetworkLinkSchema }),
])
export type Accessory = z.infer<typeof AccessorySchema>
/** A model of an accessory, each kind by itself. */
export type AccessoryModel = Accessory extends infer A ? (A extends unknown ? Omit<A, 'id'> : never) : never
export type Adapter = Extract<Accessory, { kind: 'dock' | 'enclosure' | 'cable' }>
export type Host = Extract<Accessory, { kind: 'host' }>
export type FarBench = Extract<Accessory, { kind: 'far-bench' }>

export const isAdapter = (accessory: Accessory): accessory is Adapter => 'bays' in accessory
export const isHost = (accessory: Accessory): accessory is Host => accessory.kind === 'host'

/** How many brackets there are, in use or not. */
export function bracketCount(accessories: readonly Accessory[]): number {
  return accessories.reduce((sum, a) => sum + (a.kind === 'bracket' ? a.count : 0), 0)
}

/** The bays of what has some. */
export function baysOf(accessory: Accessory): readonly Slot[] {
  return isAdapter(accessory) ? accessory.bays : []
}
