import fc from 'fast-check'
import { expect, it } from 'vitest'
import { healthVerdict } from './health'
import { healthFrom } from './smartctl'

const told = (report: object) => healthFrom(JSON.stringify(report))
const ata = (table: readonly [number, number, number][], more: object = {}) => ({
  power_on_time: { hours: 21_400 },
  temperature: { current: 39 },
  ata_smart_attributes: { table: table.map(([id, value, raw]) => ({ id, value, raw: { value: raw } })) },
  ...more,
})

it('is read of drives by ATA, with what their makers agree on', () => {
  expect(
    told(
      ata([
        [5, 100, 12],
        [197, 100, 0],
        [9, 80, 21_400],
        [231, 88, 0],
      ]),
    ),
  ).toEqual({
    ...{ powerOnHours: 21_400, temperatureCelsius: 39 },
    ...{ reallocatedSectors: 12, pendingSectors: 0, percentageUsed: 12 },
  })
  expect(healthVerdict(told(ata([[197, 100, 3]]))).state).toBe('failing')
  // Some count in several parts of one number; that is no number of sectors.
  expect(told(ata([[5, 100, 2 ** 40]]))).not.toHaveProperty('reallocatedSectors')
})

it('is read of NVMe drives', () => {
  const log = { temperature: 44, power_on_hours: 900, percentage_used: 3, available_spare: 5 }
  const report = { nvme_smart_health_information_log: { ...log, available_spare_threshold: 10, media_errors: 0 } }
  expect(told(report)).toEqual({
    ...{ powerOnHours: 900, temperatureCelsius: 44, percentageUsed: 3 },
    ...{ availableSpare: 5, spareThreshold: 10, mediaErrors: 0 },
  })
  expect(healthVerdict(told(report)).state).toBe('failing')
})

it('is bad where the drive says so itself', () => {
  const health = told(ata([], { smart_status: { passed: false } }))
  expect(healthVerdict(health)).toMatchObject({ state: 'failing' })
  expect(healthVerdict(told(ata([], { smart_status: { passed: true } }))).state).toBe('good')
})

it('is not known where nothing of it is told, whatever is printed', () => {
  for (const text of ['', 'Smartctl: no such device', '[]', '{"smartctl":{"exit_status":2}}'])
    expect(healthFrom(text)).toBeUndefined()
  expect(told({ ...ata([]), temperature: undefined })).toBeUndefined()
  fc.assert(fc.property(fc.json(), (text) => void healthFrom(text)))
})
