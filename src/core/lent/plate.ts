import * as z from 'zod'
import { type Computer, ComputerSchema } from '../things/computer'
import { type Drive, driveName, DriveSchema } from '../things/drive'
import { line } from '../words-schema'

/** What the lender of a drive says of it, for the bench that borrows it. */
const LentPlateSchema = z.object({
  imbarco: z.literal('lent drive'),
  /** The name of the bench that lends it. */
  bench: line().trim().min(1).max(80),
  drive: DriveSchema.pick({
    model: true,
    serial: true,
    body: true,
    protocol: true,
    kind: true,
    sizeBytes: true,
    logicalSectorSize: true,
    physicalSectorSize: true,
    readBytesPerSecond: true,
    writeBytesPerSecond: true,
    requestSeconds: true,
    encrypted: true,
    health: true,
  }),
  /** The computer that it sits in, and the slot; null where it hangs at something else. */
  computer: ComputerSchema.omit({ virtual: true, farBenchId: true, programs: true }).nullable(),
  slot: line().max(40).nullable(),
})
export type LentPlate = z.infer<typeof LentPlateSchema>

/** What an export may say of itself, in bytes: the most that a string of the protocol has. */
const MOST_BYTES = 4096

/** The description under which a drive is lent: a line for people, and one for programs. */
export function lentDescription(drive: Drive, bench: string, computer: Computer | undefined): string {
  const slot = drive.place.kind === 'slot' ? drive.place.slot : null
  const plate = { imbarco: 'lent drive', bench, drive, computer: computer && slot !== null ? computer : null, slot }
  const whole = textOf(drive, bench, LentPlateSchema.parse(plate))
  if (whole.length <= MOST_BYTES) return new TextDecoder().decode(whole)
  return new TextDecoder().decode(
    textOf(drive, bench, LentPlateSchema.parse({ ...plate, computer: null, slot: null })).subarray(0, MOST_BYTES),
  )
}

const textOf = (drive: Drive, bench: string, plate: LentPlate) =>
  new TextEncoder().encode(`${driveName(drive)} of ${bench}\n${JSON.stringify(plate)}`)

/** What a description tells; undefined for one that another program wrote. */
export function lentPlate(description: string): LentPlate | undefined {
  const [, json] = description.split('\n')
  if (json === undefined) return undefined
  try {
    return LentPlateSchema.parse(JSON.parse(json))
  } catch {
    return undefined
  }
}
