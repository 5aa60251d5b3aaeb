import { z } from 'zod'
import { HealthSchema } from '@/core/health/health'
import { FirmwareSchema } from '@/core/boot/types'
import { LinkIdSchema } from '@/core/route/types'
import { ChassisSchema } from '@/core/swap/steps'

/** Where a drive is. */
export const PlaceSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('slot'), computerId: z.string(), slot: z.string() }),
  z.object({ kind: z.literal('bay'), accessoryId: z.string(), bay: z.string() }),
  z.object({ kind: z.literal('shelf') }),
  z.object({ kind: z.literal('table') }),
])
export type Place = z.infer<typeof PlaceSchema>

export const DriveSchema = z.object({
  id: z.string(),
  /** Maker and model, as printed: `Corvina S5`. */
  model: z.string(),
  serial: z.string(),
  /** Form and protocol: what decides where it goes. */
  interfaceName: z.string(),
  kind: z.enum(['SSD', 'hard disk', 'NVMe SSD', 'blade SSD']),
  sizeBytes: z.number(),
  logicalSectorSize: z.union([z.literal(512), z.literal(4096)]),
  physicalSectorSize: z.number(),
  readBytesPerSecond: z.number(),
  writeBytesPerSecond: z.number(),
  /** What one request costs besides the bytes. */
  requestSeconds: z.number(),
  encrypted: z.boolean(),
  /** What it reports of its health; absent where it reports nothing. */
  health: HealthSchema.optional(),
  /** Where it no longer reads. */
  unreadable: z.array(z.object({ firstLba: z.number(), count: z.number() })).default([]),
  /** Name of the file with its bytes in the drives folder; null for a drive that is only described. */
  file: z.string().nullable(),
  /** Name of an image in the images folder that stands for the drive, in place of a file of its own. */
  image: z.string().nullable().default(null),
  place: PlaceSchema,
  /** On the shelf: what it was, and the day from which it may be erased. */
  shelf: z.object({ label: z.string(), until: z.string() }).optional(),
})
export type Drive = z.infer<typeof DriveSchema>

export const SlotSchema = z.object({ id: z.string(), interfaceName: z.string(), link: LinkIdSchema })

export const ComputerSchema = z.object({
  id: z.string(),
  name: z.string(),
  model: z.string(),
  firmware: FirmwareSchema,
  memoryBytes: z.number(),
  slots: z.array(SlotSchema),
  /** The slot it starts from when it is whole. */
  homeSlot: z.string(),
  chassis: ChassisSchema,
  /** What it is doing: switched off, running its own system, or the rescue stick. */
  running: z.enum(['off', 'system', 'stick']),
  mains: z.boolean(),
})
export type Computer = z.infer<typeof ComputerSchema>

/** Docks, enclosures, cables, sticks and hosts. */
export const AccessorySchema = z.object({
  id: z.string(),
  name: z.string(),
  kind: z.enum(['dock', 'cable', 'enclosure', 'stick', 'host', 'network']),
  detail: z.string(),
  bays: z.array(SlotSchema),
})
export type Accessory = z.infer<typeof AccessorySchema>

/** Everything on the bench. */
export interface BenchState {
  readonly computers: readonly Computer[]
  readonly accessories: readonly Accessory[]
  readonly drives: readonly Drive[]
}
