import { describe, expect, it } from 'vitest'
import type { BlockDevice } from '../block/device'
import { MemoryDevice } from '../block/memory'
import { traceBoot } from '../boot/trace'
import type { Firmware } from '../boot/types'
import { solveFit } from '../fit/solve'
import { compareLetters } from '../proof/letters'
import { movedVolumes } from '../repair/moved'
import { surveyDrive } from '../survey/survey'
import { BIOS_FIRMWARE, blake3, FIRMWARE, makeBiosDisk, makeSystemDisk, sha256, storedDigest } from '../testing-disk'
import { letStartBeside } from './let-start'
import { planCopy } from './plan'
import { runCopy } from './run'

const drive = (driveId: string, slot: string, device: BlockDevice) => ({
  ...{ driveId, name: driveId, slot, device, drivers: ['storahci'] },
})
const identity = { of: 'all' as const, seed: '6a1f7c52-0f5e-4d57-9b5d-6d0a4c0e1b77' }

/** A copy with identities of its own, larger than its source. */
async function copyBeside(source: MemoryDevice) {
  const survey = await surveyDrive(source, sha256)
  const target = new MemoryDevice(source.size * 2)
  const fit = solveFit(
    survey,
    { sizeBytes: target.size, logicalSectorSize: 512 },
    { rules: {}, sizes: {}, reserve: 0, identity },
  )
  if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
  const scope = { read: 'used' as const, leaveOut: [] }
  await runCopy(await planCopy(source, fit.layout, scope), [target], {
    ...{ digest: blake3, verify: true, note: 'beside', onStep: async () => {} },
  })
  const systems = survey.partitions.filter((p) => p.system).map((p) => p.number)
  return { target, layout: fit.layout, moved: movedVolumes(survey, fit.layout), systems }
}

describe('a copy beside its source', () => {
  it.each<[string, Firmware, () => Promise<MemoryDevice>]>([
    ['a GPT', FIRMWARE, makeSystemDisk],
    ['an MBR', BIOS_FIRMWARE(), () => makeBiosDisk()],
  ])('of %s starts its own system once it is told which volumes are its own', async (_, firmware, make) => {
    const source = await make()
    const before = await storedDigest(source)
    const { target, layout, moved, systems } = await copyBeside(source)
    const first = layout.partitions[0].guid
    const asFirst: Firmware =
      firmware.mode === 'bios'
        ? firmware
        : { ...firmware, bootEntries: [{ ...firmware.bootEntries[0], partitionGuid: first }] }
    const both = () =>
      traceBoot(asFirst, [drive('new', 'SATA 0', target), drive('old', 'SATA 1', source)], undefined, sha256)
    // Its settings still name the old drive, so that it is the old system that starts.
    expect(await both()).toMatchObject({ starts: true, startedFrom: 'new', systemDrive: 'old' })
    const system = layout.partitions.find((p) => p.role === 'system')!.guid
    expect(await compareLetters(target, moved, system)).toMatchObject({ passed: false })

    const kept: string[] = []
    const wish = { scheme: layout.scheme, time: 1n, chance: () => new Uint8Array(16), moved, systems }
    const journalFor = async () => ({ keep: async (text: string) => void kept.push(text) })
    const { made, problem } = await letStartBeside(target, { ...wish, journalFor })
    expect([made.map((r) => r.name), problem]).toEqual([['point-store', 'drive-letters'], null])
    expect(kept.length).toBeGreaterThan(1)
    expect(await both()).toMatchObject({ starts: true, startedFrom: 'new', systemDrive: 'new' })
    expect(await compareLetters(target, moved, system)).toMatchObject({
      passed: true,
      found: expect.stringMatching(/^C:/),
    })
    expect(await letStartBeside(target, { ...wish, journalFor })).toEqual({ made: [], problem: null })
    expect(await storedDigest(source)).toEqual(before)
  })

  it('says what could not be set, and is left as it is', async () => {
    const target = new MemoryDevice(64 * 1024 * 1024)
    const wish = { scheme: 'gpt', time: 1n, chance: () => new Uint8Array(16), moved: [], systems: [1] }
    const journalFor = async () => ({ keep: async () => {} })
    const { made, problem } = await letStartBeside(target, { ...wish, journalFor })
    expect([made, problem]).toEqual([[], expect.stringMatching(/no partition table/)])
  })
})
