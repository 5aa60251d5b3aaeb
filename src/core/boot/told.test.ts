import { beforeAll, describe, expect, it } from 'vitest'
import { surveyDrive } from '../survey/survey'
import type { DriveSurvey, InstalledSystem } from '../survey/types'
import { makeBiosDisk, makeSystemDisk, sha256 } from '../testing-disk'
import { firmwareTold } from './told'

let gpt: DriveSurvey
let mbr: DriveSurvey

beforeAll(async () => {
  gpt = await surveyDrive(await makeSystemDisk(), sha256)
  mbr = await surveyDrive(await makeBiosDisk(), sha256)
})

/** The same disk with something else as its system. */
const withSystem = (survey: DriveSurvey, change: Partial<InstalledSystem>): DriveSurvey => ({
  ...survey,
  partitions: survey.partitions.map((p) => (p.system ? { ...p, system: { ...p.system, ...change } } : p)),
})

describe('the firmware that a disk was started by', () => {
  it('is told by its table and what starts from it', () => {
    expect(firmwareTold(gpt).mode).toBe('uefi')
    expect(firmwareTold(mbr).mode).toBe('bios')
  })

  it('is BIOS for a system that no other can start, whatever loaders lie beside it', () => {
    const beside = { ...withSystem(mbr, { loaderPath: '/Windows/System32/winload.efi' }), loaders: gpt.loaders }
    expect(firmwareTold(beside).mode).toBe('uefi')
    expect(firmwareTold(withSystem(beside, { bits: 64 })).mode).toBe('uefi')
    expect(firmwareTold(withSystem(beside, { bits: 32 }))).toEqual({ mode: 'bios', because: 'its system has 32 bits' })
    expect(firmwareTold(withSystem(beside, { loaderPath: '/Windows/System32/winload.exe' })).mode).toBe('bios')
  })
})
