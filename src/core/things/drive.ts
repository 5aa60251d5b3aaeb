import * as z from 'zod'
import { line } from '../words-schema'
import { formatCapacity } from '../bytes/size'
import { HealthSchema } from '../health/health'
import { BodySchema, ProtocolSchema } from './bodies'

const id = line().min(1).max(80)
const words = line().trim().min(1).max(80)
const rate = z.number().positive().max(1e12)

/** Where a drive is. */
export const PlaceSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('slot'), computerId: id, slot: line().max(40) }),
  z.object({ kind: z.literal('bay'), accessoryId: id, bay: line().max(40) }),
  z.object({ kind: z.literal('shelf') }),
  z.object({ kind: z.literal('table') }),
  /** At another bench, wherever it is there. */
  z.object({ kind: z.literal('far'), accessoryId: id }),
])
export type Place = z.infer<typeof PlaceSchema>
export type Berth = Extract<Place, { kind: 'slot' | 'bay' }>

export const DRIVE_KINDS = ['SSD', 'hard disk', 'NVMe SSD', 'blade SSD', 'built-in storage', 'virtual disk'] as const

/** Runs of sectors with a fault of the medium. */
export const FaultsSchema = z
  .array(z.object({ firstLba: z.number().int().nonnegative(), count: z.number().int().positive() }))
  .max(10_000)

/** What a drive on the shelf was, and the day from which it may be erased; an empty day while its move is open. */
export const ShelfSchema = z.object({ label: line().max(120), until: line().max(10) })

/** Of a drive that another bench lends over the network. */
export const BorrowedSchema = z.object({
  /** That bench, an accessory of this one. */
  farBenchId: id,
  /** Where it is lent: `nbds://NAME@HOST:PORT/EXPORT`. Its key is kept beside the database. */
  address: line().min(1).max(400),
  writable: z.boolean(),
  /** `asked`: nobody there has said yes yet; `here`: it can be read now; `away`: there is no connection; `refused`: by them. */
  state: z.enum(['not asked', 'asked', 'here', 'away', 'refused']),
  /** What the connection carries, as it was measured. */
  bytesPerSecond: rate.nullable(),
})
export type Borrowed = z.infer<typeof BorrowedSchema>

/** Which device of this computer a drive is now. */
export const SeenDeviceSchema = z.object({
  /** `8:0`, as the kernel numbers it. */
  number: line().max(20),
  /** A number that the kernel gives to one device alone since it was started; null where it gives none. */
  sequence: z.number().int().nonnegative().nullable(),
  /** Bytes of it. */
  sizeBytes: z.number().int().positive(),
  serial: line().max(200).nullable(),
})
export type SeenDevice = z.infer<typeof SeenDeviceSchema>

/** Of a drive of this computer, which is reached through its kernel. */
export const KernelSchema = z.object({
  /** By what it is known again, wherever it is plugged in. */
  key: line().min(1).max(600),
  /** `/dev/sda`, and which device that is; null while it is not plugged in. */
  path: line().max(200).nullable(),
  device: SeenDeviceSchema.nullable(),
  /** What its serial is: its own, that of the bridge it hangs at, or its number of sectors where it tells none. */
  serialOf: z.enum(['drive', 'bridge', 'sectors']),
  /** What else uses it or a part of it, each as the end of a sentence. */
  uses: z.array(line().max(400)).max(60),
  /** Another drive with the same serial and size is plugged in. */
  hasTwin: z.boolean(),
  /** It promises to forget what it is told to, and gives zeros for that. */
  forgets: z.boolean().default(false),
})
export type KernelState = z.infer<typeof KernelSchema>

/** The bench that lends a drive, and how the connection to it stands. */
export interface LentBy {
  readonly bench: string
  readonly state: Borrowed['state']
  /** What the connection carries, where it was measured. */
  readonly bytesPerSecond: number | null
}

export const DriveSchema = z.object({
  id,
  /** Maker and model, as printed: `Corvina S5`. */
  model: words,
  serial: words,
  body: BodySchema,
  protocol: ProtocolSchema,
  kind: z.enum(DRIVE_KINDS),
  sizeBytes: z
    .number()
    .int()
    .positive()
    .max(2 ** 53),
  logicalSectorSize: z.union([z.literal(512), z.literal(4096)]),
  physicalSectorSize: z.number().int().min(512).max(65536),
  readBytesPerSecond: rate,
  writeBytesPerSecond: rate,
  /** What one request costs besides the bytes. */
  requestSeconds: z.number().nonnegative().max(1),
  encrypted: z.boolean(),
  /** `transfer`: the shop's own, may be written to on the way. */
  purpose: z.enum(['customer', 'transfer']).default('customer'),
  /** What it reports of its health; absent where it reports nothing. */
  health: HealthSchema.optional(),
  /** Where it no longer reads. */
  unreadable: FaultsSchema.default([]),
  /** Where it stores something else than was written, and tells nobody. */
  misstores: FaultsSchema.default([]),
  /** Name of the file with its bytes in the drives folder; null for a drive that is only described. */
  file: z
    .string()
    .regex(/^[\w.-]{1,120}$/)
    .nullable(),
  /** Name of an image in the images folder that stands for the drive, in place of a file of its own. */
  image: line().max(180).nullable().default(null),
  /** Its bytes are at another bench, which lends it. */
  borrowed: BorrowedSchema.optional(),
  /** Its bytes are on a drive of this computer. */
  kernel: KernelSchema.optional(),
  place: PlaceSchema,
  /** On the shelf: what it was, and the day from which it may be erased. */
  shelf: ShelfSchema.optional(),
  /** When and how it was last erased for reuse; the reason, where that was before its day. */
  erased: z
    .object({
      at: z.number(),
      how: z.enum(['zeros', 'discard']),
      writtenBytes: z.number(),
      checkedBytes: z.number(),
      reason: line().max(300).optional(),
    })
    .optional(),
})
export type Drive = z.infer<typeof DriveSchema>

/** Model and decimal capacity: how a drive is called everywhere. */
export function driveName(drive: Pick<Drive, 'model' | 'sizeBytes'>): string {
  return `${drive.model} ${formatCapacity(drive.sizeBytes)}`
}

/** Of a drive of this computer: what a plate tells of how it is plugged in. */
export type PluggedIn = Pick<KernelState, 'path' | 'uses' | 'serialOf' | 'hasTwin'>

export function pluggedIn({ kernel }: Pick<Drive, 'kernel'>): PluggedIn | null {
  if (!kernel) return null
  const { path, uses, serialOf, hasTwin } = kernel
  return { path, uses, serialOf, hasTwin }
}

/** True when its bytes can be read now: one that another bench lends is here, one of this computer is plugged in. */
export function isWithinReach({ borrowed, kernel }: Pick<Drive, 'borrowed' | 'kernel'>): boolean {
  if (kernel) return kernel.path !== null
  return borrowed === undefined || borrowed.state === 'here'
}

/** True when there are bytes behind it, and it is not only described. */
export function hasBytes(drive: Drive): boolean {
  return drive.file !== null || drive.image !== null || drive.borrowed !== undefined || drive.kernel !== undefined
}
