import { beforeAll, describe, expect, it } from 'vitest'
import { readBytes } from '../block/device'
import { MemoryDevice } from '../block/memory'
import { OverlayDevice } from '../block/overlay'
import { readOnly } from '../block/readonly'
import { GIB } from '../bytes/size'
import { planCopy } from '../copy/plan'
import { runCopy } from '../copy/run'
import { solveFit } from '../fit/solve'
import type { Layout } from '../fit/types'
import { writeGpt } from '../scheme/gpt'
import { surveyDrive } from '../survey/survey'
import { makeSystemDisk, sha256, SYSTEM_GUID } from '../testing-disk'
import { compareWithSource, ProofCheckSchema } from './compare'

let source: MemoryDevice
let target: MemoryDevice
let layout: Layout

beforeAll(async () => {
  source = await makeSystemDisk()
  const fit = solveFit(await surveyDrive(source, sha256), { sizeBytes: 2 * GIB, logicalSectorSize: 512 })
  if (!fit.fits) throw new Error('it should fit')
  layout = fit.layout
  target = new MemoryDevice(2 * GIB)
  await runCopy(await planCopy(readOnly(source), layout), target, { digest: sha256, note: 'x', onStep: async () => {} })
})

async function failing(
  device: OverlayDevice | MemoryDevice,
  guid: string | undefined = SYSTEM_GUID,
): Promise<string[]> {
  const checks = await compareWithSource(source, device, { layout, startedGuid: guid }, sha256, sha256)
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
