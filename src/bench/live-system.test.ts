import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '@/core/block/memory'
import { readOnly } from '@/core/block/readonly'
import { SliceDevice } from '@/core/block/slice'
import { MIB } from '@/core/bytes/size'
import { PointInTimeSource } from '@/core/copy/point-in-time'
import { planCopy } from '@/core/copy/plan'
import { runCopy } from '@/core/copy/run'
import { openFileSystem } from '@/core/filesystem'
import { solveFit } from '@/core/fit/solve'
import { surveyDrive } from '@/core/survey/survey'
import { pattern, sameBytes } from '@/core/testing'
import { blake3, makeSystemDisk, sha256 } from '@/core/testing-disk'
import { LiveDrive, LiveSystem } from './live-system'

const SIZE = 700 * MIB
const documents = Array.from({ length: 12 }, (_, i) => ({ path: `/Tills/day ${i}.log`, content: pattern(3 * MIB, i) }))

/** Copies a system while it runs, every piece taking three seconds of its life. */
async function copyLive(snapshotMib: number | null) {
  const disk = await makeSystemDisk({ sizeBytes: 400 * MIB, systemFiles: documents })
  const survey = await surveyDrive(disk, sha256)
  const fit = solveFit(survey, { sizeBytes: SIZE, logicalSectorSize: 512 })
  if (!fit.fits) throw new Error('it fits')
  const part = survey.partitions.find((p) => p.role === 'system')!
  const esp = survey.partitions.find((p) => p.role === 'boot')!
  const drive = new LiveDrive(disk)
  const system = await LiveSystem.start(drive, {
    volume: { offset: part.startBytes, length: part.sizeBytes },
    programs: ['Ticket till', 'Mail'],
    seed: 3,
  })
  const direct = [{ offset: esp.startBytes, length: esp.sizeBytes }]
  const moment = new PointInTimeSource(drive, snapshotMib, direct, new MemoryDevice(drive.size))
  const target = new MemoryDevice(SIZE)
  try {
    const plan = await planCopy(readOnly(moment.device), fit.layout)
    await runCopy(plan, target, {
      digest: blake3,
      note: 'x',
      onStep: async () => system.pass(3),
    })
    const summary = await moment.summary()
    const { firstLba, lastLba } = fit.layout.partitions.find((p) => p.role === 'system')!
    const volume = (await openFileSystem(new SliceDevice(target, firstLba * 512, (lastLba - firstLba + 1) * 512)))!
    const same = await Promise.all(
      documents.map(async ({ path, content }) => sameBytes(await volume.readFile(path), content)),
    )
    return { summary, same, written: system.files }
  } finally {
    moment.close()
  }
}

describe('a system that is copied while it runs', () => {
  it('is copied as it was at one moment with a snapshot, and what changed since is named', async () => {
    const { summary, same, written } = await copyLive(64)
    // Two programs, and a service, since this system has no page file.
    expect(written).toHaveLength(3)
    expect(same.every(Boolean)).toBe(true)
    expect(summary.oneMoment).toBe(true)
    expect(summary.files.map((f) => f.path).sort()).toEqual([...written].sort())
    expect(summary.keptBytes).toBeGreaterThan(0)
  })

  it('is not of one moment without, which is said with the files', async () => {
    const { summary, same, written } = await copyLive(null)
    expect(summary.oneMoment).toBe(false)
    expect(summary.files.map((f) => f.path).sort()).toEqual([...written].sort())
    expect(summary.changedBytes).toBeGreaterThan(0)
    const changed = documents.filter((_, i) => !same[i]).map((d) => d.path)
    expect(changed.length).toBeGreaterThan(0)
    for (const path of changed) expect(written).toContain(path)
  })

  it('fails clearly when more changes than the snapshot may hold', async () => {
    await expect(copyLive(1)).rejects.toThrow(
      /More was written while it was copied than the snapshot of 1 MiB may hold/,
    )
  })
})
