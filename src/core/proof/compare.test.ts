import { beforeAll, describe, expect, it } from 'vitest'
import { readBytes, writeBytes } from '../block/device'
import { MemoryDevice } from '../block/memory'
import { OverlayDevice } from '../block/overlay'
import { readOnly } from '../block/readonly'
import { SliceDevice } from '../block/slice'
import { GIB } from '../bytes/size'
import { planCopy } from '../copy/plan'
import { runCopy } from '../copy/run'
import { ATTRIBUTE_TYPES, RECORDS, VOLUME_DIRTY, VOLUME_INFORMATION } from '../filesystem/ntfs/layout'
import { replaceAttribute, residentAttribute } from '../filesystem/ntfs/records'
import { NtfsVolume } from '../filesystem/ntfs/volume'
import { formatBitLocker } from '../filesystem/sealed/bitlocker-format'
import { solveFit } from '../fit/solve'
import type { Layout } from '../fit/types'
import { writeGpt } from '../scheme/gpt'
import { surveyDrive } from '../survey/survey'
import { blake3, makeSystemDisk, sha256, SYSTEM_GUID } from '../testing-disk'
import type { DriveSurvey } from '../survey/types'
import { compareTarget, type Planned, ProofCheckSchema } from './compare'
import { takeSamples, type VolumeSamples } from './samples'

let source: MemoryDevice
let target: MemoryDevice
let layout: Layout
let survey: DriveSurvey
let samples: VolumeSamples[]
const digests = { digest: blake3, fileDigest: sha256 }

beforeAll(async () => {
  source = await makeSystemDisk()
  survey = await surveyDrive(source, sha256)
  const fit = solveFit(survey, { sizeBytes: 2 * GIB, logicalSectorSize: 512 })
  if (!fit.fits) throw new Error('it should fit')
  layout = fit.layout
  samples = await takeSamples(source, layout, [], sha256)
  target = new MemoryDevice(2 * GIB)
  await runCopy(await planCopy(readOnly(source), layout), target, { digest: blake3, note: 'x', onStep: async () => {} })
})

/** What is known of the source, with changes. */
function planned(changes: Partial<Planned> = {}): Planned {
  return { layout, source: survey, samples, startedGuid: SYSTEM_GUID, ...changes }
}

async function failing(
  device: OverlayDevice | MemoryDevice,
  guid: string | undefined = SYSTEM_GUID,
): Promise<string[]> {
  const checks = await compareTarget(device, planned({ startedGuid: guid }), digests)
  for (const check of checks) expect(ProofCheckSchema.parse(check)).toEqual(check)
  return checks.filter((c) => !c.passed).map((c) => c.id)
}

describe('what is looked at after the start', () => {
  it('passes for a target that was copied whole', async () => {
    expect(await failing(target)).toEqual([])
  })

  it('tells a system that was started from elsewhere', async () => {
    expect(await failing(target, 'another')).toEqual(['system-volume'])
  })

  it('takes any system of the plan for the one that started, and no other volume', async () => {
    const two = (role: 'system' | 'data') => ({
      ...layout,
      partitions: layout.partitions.map((p) => (p.number === 4 ? { ...p, role } : p)),
    })
    const recovery = layout.partitions[3].guid
    const started = async (role: 'system' | 'data') =>
      (await compareTarget(target, planned({ layout: two(role), startedGuid: recovery }), digests))[0]
    expect(await started('system')).toMatchObject({ id: 'system-volume', passed: true })
    expect(await started('data')).toMatchObject({ passed: false, found: /where the plan has no system/ })
  })

  it('tells a file whose bytes are others', async () => {
    const device = new OverlayDevice(target)
    // The small file lies in clusters of its own: find it on the target by what the source holds there.
    const survey = await surveyDrive(device, sha256)
    const { startBytes } = survey.partitions[2]
    const old = (await surveyDrive(source, sha256)).partitions[2].startBytes
    for (let at = 0; at < 64 * 1024 * 1024; at += 4096) {
      const bytes = await readBytes(source, old + at, 512)
      // The pattern of /Windows/notes.txt begins with the seed's 51.
      if (bytes[0] === 51 && bytes[1] === 82) {
        const changed = new Uint8Array(512)
        await device.read(startBytes + at, changed)
        changed[100] ^= 1
        await device.write(startBytes + at, changed)
        break
      }
    }
    expect(device.changed()).toHaveLength(1)
    expect(await failing(device)).toEqual(['samples'])
  })

  it('tells a partition that is not there', async () => {
    const device = new OverlayDevice(target)
    const partitions = layout.partitions.filter((p) => p.role !== 'recovery')
    await writeGpt(device, { diskGuid: layout.diskGuid, entryCount: 128, entrySize: 128, partitions })
    expect(await failing(device)).toEqual(['volumes', 'sizes'])
  })

  it('takes what was wrong on the source too for no fault of the target, and what is new for one', async () => {
    const unclean = async (device: OverlayDevice, startBytes: number) => {
      const volume = await NtfsVolume.open(new SliceDevice(device, startBytes, device.size - startBytes))
      const record = await volume.record(RECORDS.volume)
      const attribute = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.volumeInformation)!
      const value = attribute.value!.slice()
      VOLUME_INFORMATION.write(value, { flags: VOLUME_DIRTY })
      const raw = residentAttribute({ type: attribute.type, id: attribute.id }, value)
      const at = startBytes + volume.recordOffset(RECORDS.volume)
      await writeBytes(device, at, replaceAttribute(record, attribute, raw))
    }
    const system = layout.partitions[2]
    const now = new OverlayDevice(target)
    await unclean(now, system.firstLba * 512)
    expect(await failing(now)).toEqual(['volumes'])
    const old = new OverlayDevice(source)
    await unclean(old, system.sourceFirstLba * 512)
    const checks = await compareTarget(now, planned({ source: await surveyDrive(old, sha256) }), digests)
    expect(checks.find((c) => c.id === 'volumes')).toMatchObject({
      passed: true,
      found: '4 of 4, nothing wrong that was not before',
    })
  })

  it('sees nothing wrong in a volume that is encrypted', async () => {
    const [old, now] = [new OverlayDevice(source), new OverlayDevice(target)]
    const system = layout.partitions[2]
    for (const [device, first, last] of [
      [old, system.sourceFirstLba, system.sourceLastLba],
      [now, system.firstLba, system.lastLba],
    ] as const) {
      const sealed = new SliceDevice(device, first * 512, (last - first + 1) * 512)
      await formatBitLocker(sealed, { description: 'Hives', volumeGuid: SYSTEM_GUID, created: 1n })
    }
    const checks = await compareTarget(
      now,
      planned({ source: await surveyDrive(old, sha256), samples: await takeSamples(old, layout, [], sha256) }),
      digests,
    )
    expect(checks.filter((c) => !c.passed)).toEqual([])
    const { found } = checks.find((c) => c.id === 'samples')!
    expect(found).toMatch(/^\d+ files compared; none of .*: it is encrypted$/)
  })

  it('compares with no file that is known to differ or that the old drive did not give, and says how many', async () => {
    const all = samples.flatMap((v) => v.files)
    const found = async (changes: Partial<Planned>) =>
      (await compareTarget(target, planned(changes), digests)).find((c) => c.id === 'samples')!
    expect(await found({})).toMatchObject({ passed: true, found: `${all.length} files compared` })
    const notes = { path: '/Windows/notes.txt', partition: 3 }
    expect((await found({ apart: [notes] })).found).toBe(`${all.length - 1} files compared`)
    expect((await found({ apart: [{ path: notes.path, sourcePartition: 3 }] })).found).toBe(
      `${all.length - 1} files compared`,
    )
    const lost = await takeSamples(source, layout, [{ sourcePartition: 3, files: [notes.path] }], sha256)
    expect((await found({ samples: lost })).found).toBe(
      `${all.length - 1} files compared; 1 the old drive did not give`,
    )
    expect(await found({ samples: null })).toMatchObject({ passed: false })
    expect(await found({ samples: [] })).toMatchObject({ passed: true, found: /no volume whose files can be read/ })
  })

  it('tells a volume that does not fill its partition', async () => {
    const device = new OverlayDevice(target)
    const system = layout.partitions[2]
    const boot = new Uint8Array(512)
    await device.read(system.firstLba * 512, boot)
    const view = new DataView(boot.buffer)
    view.setBigUint64(40, view.getBigUint64(40, true) - 4096n, true)
    await device.write(system.firstLba * 512, boot)
    expect(await failing(device)).toContain('sizes')
  })
})
