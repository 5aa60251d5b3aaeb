import fc from 'fast-check'
import { beforeAll, describe, expect, it } from 'vitest'
import { type BlockDevice, UnreadableSectors } from '../block/device'
import { FaultyDevice } from '../block/faulty'
import { MemoryDevice } from '../block/memory'
import { SliceDevice } from '../block/slice'
import { MIB } from '../bytes/size'
import { openFileSystem } from '../filesystem'
import { defaultWish, solveFit } from '../fit/solve'
import { surveyDrive } from '../survey/survey'
import { pattern, runsOf, sameBytes } from '../testing'
import { blake3, makeSystemDisk, sha256 } from '../testing-disk'
import { planCopy } from './plan'
import { readAround } from '../block/read-around'
import { runCopy } from './run'

const SIZE = MIB / 4

async function drive(lost: readonly number[]): Promise<{ whole: Uint8Array; device: FaultyDevice }> {
  const whole = pattern(SIZE, 3)
  const base = new MemoryDevice(SIZE)
  await base.write(0, whole)
  return {
    whole,
    device: new FaultyDevice(
      base,
      lost.map((firstLba) => ({ firstLba, count: 1 })),
    ),
  }
}

describe('a drive that fails', () => {
  it('does not call zeros what it cannot read, though nothing was ever stored there', async () => {
    const device = new FaultyDevice(new MemoryDevice(SIZE), [{ firstLba: 40, count: 3 }])
    expect(await device.mapped!(0, SIZE)).toEqual([{ offset: 40 * 512, length: 3 * 512 }])
  })
})

describe('reading around what does not read', () => {
  it('gives everything but exactly the sectors that are lost', async () => {
    const sectors = fc.uniqueArray(fc.nat({ max: SIZE / 512 - 1 }), { maxLength: 60 })
    const run = fc.tuple(fc.nat({ max: SIZE / 512 - 1 }), fc.integer({ min: 1, max: 200 }))
    await fc.assert(
      fc.asyncProperty(sectors, run, async (singles, [first, count]) => {
        const block = Array.from({ length: count }, (_, i) => first + i).filter((s) => s < SIZE / 512)
        const lost = new Set([...singles, ...block])
        const { whole, device } = await drive([...lost])
        const into = new Uint8Array(SIZE)
        const extents = await readAround(device, 0, into)
        const found = extents.flatMap(({ offset, length }) =>
          Array.from({ length: length / 512 }, (_, i) => offset / 512 + i),
        )
        expect(found).toEqual([...lost].sort((a, b) => a - b))
        for (const sector of lost) whole.fill(0, sector * 512, (sector + 1) * 512)
        expect(sameBytes(into, whole)).toBe(true)
      }),
      { numRuns: runsOf(25, 600) },
    )
  })

  it('asks for little more than the sectors around the trouble', async () => {
    const { device } = await drive([300])
    let asked = 0
    const counting: BlockDevice = {
      size: device.size,
      logicalSectorSize: 512,
      physicalSectorSize: 512,
      read: (offset, into) => (asked++, device.read(offset, into)),
      write: (offset, from) => device.write(offset, from),
      flush: () => device.flush(),
    }
    await readAround(counting, 0, new Uint8Array(SIZE))
    expect(asked).toBeLessThan(80)
  })

  it('reads at last what reads the second time', async () => {
    const { whole, device } = await drive([])
    let left = 3
    const weak: BlockDevice = {
      size: device.size,
      logicalSectorSize: 512,
      physicalSectorSize: 512,
      async read(offset, into) {
        if (offset <= 5120 && offset + into.length > 5120 && left-- > 0) throw new UnreadableSectors([10])
        await device.read(offset, into)
      },
      write: (offset, from) => device.write(offset, from),
      flush: () => device.flush(),
    }
    const into = new Uint8Array(64 * 1024)
    expect(await readAround(weak, 0, into)).toEqual([])
    expect(sameBytes(into, whole.slice(0, into.length))).toBe(true)
  })
})

describe('a copy from a failing drive', () => {
  let source: MemoryDevice
  beforeAll(async () => {
    source = (await makeSystemDisk({
      systemFiles: Array.from({ length: 40 }, (_, i) => ({
        path: `/Recordings/take ${i}.wav`,
        content: pattern(700_000, i),
        fragments: 3,
        gap: 40,
      })),
    })) as MemoryDevice
  })

  it('goes on past lost sectors, names their files, and all else is equal', async () => {
    const survey = await surveyDrive(source, sha256)
    const system = survey.partitions[2]
    const volume = (await openFileSystem(new SliceDevice(source, system.startBytes, system.sizeBytes)))!
    const lbaOf = async (path: string, at: number) => {
      const [extent] = (await volume.fileExtents!(path)).slice(1)
      return (system.startBytes + extent.offset) / 512 + at
    }
    const lost = [
      { firstLba: await lbaOf('/Recordings/take 3.wav', 5), count: 23 },
      { firstLba: await lbaOf('/Recordings/take 17.wav', 100), count: 1 },
    ]
    const failing = new FaultyDevice(source, lost)
    for (const targetMib of [900, 330]) {
      const fit = solveFit(survey, { sizeBytes: targetMib * MIB, logicalSectorSize: 512 }, defaultWish(survey))
      if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
      const target = new MemoryDevice(targetMib * MIB)
      const outcome = await runCopy(await planCopy(failing, fit.layout), target, {
        digest: blake3,
        note: '',
        onStep: async () => {},
      })
      expect(outcome.copiedBytes).toBe(outcome.checkedBytes)
      expect(outcome.lost.reduce((sum, l) => sum + l.sectors, 0)).toBe(24)
      expect(outcome.lost.every((l) => l.partition === 3)).toBe(true)
      const sectors = outcome.lost.flatMap((l) => Array.from({ length: l.sectors }, (_, i) => l.sourceLba + i))
      expect(sectors.sort((a, b) => a - b)).toEqual(
        lost.flatMap((l) => Array.from({ length: l.count }, (_, i) => l.firstLba + i)).sort((a, b) => a - b),
      )
      expect([...new Set(outcome.lost.flatMap((l) => l.files))].sort()).toEqual([
        '/Recordings/take 17.wav',
        '/Recordings/take 3.wav',
      ])
      const after = (await surveyDrive(target, sha256)).partitions[2]
      const now = (await openFileSystem(new SliceDevice(target, after.startBytes, after.sizeBytes)))!
      for (let i = 0; i < 40; i++) {
        const [a, b] = [pattern(700_000, i), await now.readFile(`/Recordings/take ${i}.wav`)]
        let differing = 0
        for (let at = 0; at < a.length; at += 512) {
          if (!sameBytes(a.slice(at, at + 512), b.slice(at, at + 512))) differing++
        }
        expect(differing).toBe(i === 3 ? 23 : i === 17 ? 1 : 0)
      }
    }
  })
})
