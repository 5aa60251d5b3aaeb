import * as z from 'zod'
import { type Health, HealthSchema } from './health'

// What a drive reports of its health, as smartctl prints it with --json (its format 1.0).

const count = z.number().int().nonnegative()

const Report = z.object({
  smart_status: z.object({ passed: z.boolean() }).optional(),
  power_on_time: z.object({ hours: count }).optional(),
  temperature: z.object({ current: z.number() }).optional(),
  ata_smart_attributes: z
    .object({ table: z.array(z.object({ id: count, value: count.optional(), raw: z.object({ value: count }) })) })
    .optional(),
  nvme_smart_health_information_log: z
    .object({
      temperature: z.number().optional(),
      power_on_hours: count.optional(),
      percentage_used: count.optional(),
      available_spare: count.optional(),
      available_spare_threshold: count.optional(),
      media_errors: count.optional(),
    })
    .optional(),
})

/** Attributes of ATA drives that makers agree on, by their numbers. */
const ATA = { reallocatedSectors: 5, pendingSectors: 197, uncorrectableSectors: 198 } as const
/** Those by which SSDs tell what is left of their life in per cent; no two makers have the same. */
const LIFE_LEFT = [231, 202, 169]
/** Above this a raw value is several numbers in one. */
const MOST_COUNTED = 2 ** 32

/** Health from what smartctl printed; undefined where that is not of its form, or the drive tells neither hours nor warmth. */
export function healthFrom(text: string): Health | undefined {
  let json: unknown
  try {
    json = JSON.parse(text)
  } catch {
    return undefined
  }
  const report = Report.safeParse(json).data
  if (!report) return undefined
  const { smart_status, ata_smart_attributes: ata, nvme_smart_health_information_log: nvme } = report
  const hours = report.power_on_time?.hours ?? nvme?.power_on_hours
  const celsius = report.temperature?.current ?? nvme?.temperature
  if (hours === undefined || celsius === undefined) return undefined
  const attribute = (id: number) => ata?.table.find((a) => a.id === id)
  const counted = Object.entries(ATA).flatMap(([name, id]) => {
    const value = attribute(id)?.raw.value
    return value === undefined || value >= MOST_COUNTED ? [] : [[name, value] as const]
  })
  const left = LIFE_LEFT.map((id) => attribute(id)?.value).find((value) => value !== undefined && value <= 100)
  const told = {
    ...{ powerOnHours: hours, temperatureCelsius: celsius, saysItFails: smart_status?.passed === false || undefined },
    ...Object.fromEntries(counted),
    ...{ percentageUsed: nvme?.percentage_used ?? (left === undefined ? undefined : 100 - left) },
    ...{ availableSpare: nvme?.available_spare, spareThreshold: nvme?.available_spare_threshold },
    mediaErrors: nvme?.media_errors,
  }
  return HealthSchema.safeParse(Object.fromEntries(Object.entries(told).filter(([, v]) => v !== undefined))).data
}
