import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '../block/memory'
import { SliceDevice } from '../block/slice'
import { type OverlayDevice } from '../block/overlay'
import { readOnly } from '../block/readonly'
import { referenceFrom } from '../boot/reference'
import { traceBoot } from '../boot/trace'
import type { Firmware } from '../boot/types'
import { MIB } from '../bytes/size'
import { planCopy } from '../copy/plan'
import { formatFat32 } from '../filesystem/fat/format'
import { FALLBACK_PATH } from '../survey/known-systems'
import { runCopy } from '../copy/run'
import { defaultWish, solveFit } from '../fit/solve'
import type { Layout } from '../fit/types'
import type { DriveSurvey } from '../survey/types'
import { surveyDrive } from '../survey/survey'
import { pattern } from '../testing'
import {
  BIOS_FIRMWARE,
  blake3,
  FIRMWARE,
  makeBiosDisk,
  makeSystemDisk,
  sha256,
  signedLoader,
  storedDigest,
} from '../testing-disk'
import { planRepair } from '.'
import { applyRepair, undoRepair } from './apply'
import { movedVolumes } from './moved'

const UEFI: Firmware = { ...FIRMWARE, bootEntries: [], bootOrder: [] }
const OWN = { path: '/Windows/Boot/EFI/bootmgfw.efi', content: signedLoader(21) }
const LOADER = { path: '/Windows/System32/winload.efi', content: pattern(72_000, 22) }
const keep = { keep: async () => {} }
const question = {
  mode: 'uefi' as const,
  time: 5n,
  chance: Uint8Array.from({ length: 16 }, (_, i) => 0x31 + i * 7),
  drivers: ['storahci'],
}

const trace = (device: MemoryDevice | OverlayDevice, survey: DriveSurvey, firmware = UEFI) =>
  traceBoot(
    firmware,
    [{ driveId: 'new', name: 'New drive', slot: 'SATA 0', device, drivers: ['storahci'] }],
    referenceFrom(survey),
    sha256,
  )

/** A system that starts by BIOS, copied to a drive with a GPT. */
async function converted(files = [OWN, LOADER], sizeBytes = 600 * MIB) {
  const source = await makeBiosDisk(33 * 2048, files)
  const survey = await surveyDrive(source, sha256)
  const fit = solveFit(survey, { sizeBytes, logicalSectorSize: 512 }, { ...defaultWish(survey), scheme: 'gpt' })
  if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
  const target = new MemoryDevice(sizeBytes)
  await runCopy(await planCopy(readOnly(source), fit.layout), target, {
    ...{ digest: blake3, note: 'Lighting desk', onStep: async () => {} },
  })
  return { source, survey, layout: fit.layout, target }
}

/** Makes the repairs that each stop of the start names, up to where it passes. */
async function mend(target: MemoryDevice, survey: DriveSurvey, layout: Layout): Promise<string[]> {
  const made: string[] = []
  for (;;) {
    const { links, starts } = await trace(target, survey)
    if (starts) return made
    const name = links.find((l) => l.state === 'failed')?.repairs?.[0]
    if (!name || made.length > 5) throw new Error(JSON.stringify(links.find((l) => l.state === 'failed')))
    const plan = await planRepair(name, { ...question, device: target, moved: movedVolumes(survey, layout) })
    await applyRepair(target, plan, keep)
    made.push(name)
  }
}

describe('a system that started by BIOS, on a drive with a GPT', () => {
  it('keeps room for an EFI system partition, gets one with its own loader, and starts by UEFI', async () => {
    const { source, survey, layout, target } = await converted()
    expect(layout.gaps.reduce((sum, gap) => sum + gap.sizeBytes, 0)).toBeGreaterThanOrEqual(100 * MIB)
    const before = await storedDigest(source)
    const first = await trace(target, survey)
    expect(first.links.find((l) => l.state === 'failed')).toMatchObject({ id: 'boot-partition', repairs: ['new-esp'] })
    const made = await mend(target, survey, layout)
    expect(made[0]).toBe('new-esp')
    const after = await surveyDrive(target, sha256)
    expect(after.loaders.map((l) => l.path)).toEqual(
      expect.arrayContaining(['/EFI/Microsoft/Boot/bootmgfw.efi', '/EFI/BOOT/BOOTX64.EFI']),
    )
    const esp = after.partitions.find((p) => p.role === 'boot' && p.volume?.kind === 'fat32')!
    expect([esp.sizeBytes, esp.aligned, esp.findings]).toEqual([100 * MIB, true, []])
    expect(await storedDigest(source)).toBe(before)
    expect((await trace(source, survey, BIOS_FIRMWARE())).starts).toBe(true)
    // A second one is not made.
    expect((await planRepair('new-esp', { ...question, device: target })).patches).toEqual([])
  })

  it('is as it was before, byte for byte, when it is taken back', async () => {
    const { target } = await converted()
    const before = await storedDigest(target)
    const plan = await planRepair('new-esp', { ...question, device: target })
    const record = await applyRepair(target, plan, keep)
    expect(await storedDigest(target)).not.toBe(before)
    await undoRepair(target, record, keep)
    expect(await storedDigest(target)).toBe(before)
  })

  it.each([
    ['nothing', []],
    ['another system’s loader', [{ path: FALLBACK_PATH, content: signedLoader(77) }]],
  ])('gets its loader and settings onto a partition that is there with %s on it', async (_, files) => {
    const { survey, layout, target } = await converted()
    await applyRepair(target, await planRepair('new-esp', { ...question, device: target }), keep)
    const esp = (await surveyDrive(target, sha256)).partitions.find(
      (p) => p.role === 'boot' && p.volume?.kind === 'fat32',
    )!
    await formatFat32(new SliceDevice(target, esp.startBytes, esp.sizeBytes), {
      ...{ label: 'SYSTEM', serial: 9, startSector: esp.startBytes / 512, files },
    })
    const before = await storedDigest(target)
    const stop = (await trace(target, survey)).links.find((l) => l.state === 'failed')!
    expect(stop.repairs).toContain('new-store')
    const plan = await planRepair('new-store', { ...question, device: target })
    expect(plan.changes[0]).toMatch(/bootmgfw\.efi.* is put: the system’s own loader/)
    const record = await applyRepair(target, plan, keep)
    const { loaders } = await surveyDrive(target, sha256)
    const kept = loaders.find((l) => l.path === FALLBACK_PATH)
    expect(kept?.digest === loaders.find((l) => /bootmgfw/.test(l.path))?.digest).toBe(files.length === 0)
    await undoRepair(target, record, keep)
    expect(await storedDigest(target)).toBe(before)
    await applyRepair(target, plan, keep)
    await mend(target, survey, layout)
  })

  it('is told why where none can be made', async () => {
    const plan = (device: MemoryDevice, mode: 'uefi' | 'bios' = 'uefi') =>
      planRepair('new-esp', { ...question, device, mode })
    await expect(plan((await converted([LOADER])).target)).rejects.toThrow(/keeps no loader for UEFI/)
    await expect(plan((await converted([OWN])).target)).rejects.toThrow(/no loader for UEFI/)
    await expect(plan(await makeBiosDisk())).rejects.toThrow(/has an MBR/)
    await expect(plan(await makeSystemDisk(), 'bios')).rejects.toThrow(/Only a computer/)
    const { source, survey } = await converted()
    // A layout without the room that is kept as a rule.
    const size = 262 * MIB
    const fit = solveFit(survey, { sizeBytes: size, logicalSectorSize: 512 }, { ...defaultWish(survey), scheme: 'gpt' })
    if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
    const target = new MemoryDevice(size)
    const layout = { ...fit.layout, partitions: fit.layout.partitions.map((p) => ({ ...p })) }
    const last = layout.partitions.at(-1)!
    last.lastLba += 60 * 2048
    await runCopy(await planCopy(readOnly(source), layout), target, {
      ...{ digest: blake3, note: '', onStep: async () => {} },
    })
    await expect(plan(target)).rejects.toThrow(/needs 100 MiB of unallocated space/)
  })
})
