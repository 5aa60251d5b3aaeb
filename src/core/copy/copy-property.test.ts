import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { type BlockDevice, readBytes } from '../block/device'
import { MemoryDevice } from '../block/memory'
import { readOnly } from '../block/readonly'
import { SliceDevice } from '../block/slice'
import { MIB } from '../bytes/size'
import { toHex } from '../digest'
import { openFileSystem } from '../filesystem'
import type { NewFile } from '../filesystem/new-files'
import { defaultWish, solveFit } from '../fit/solve'
import { fitSizes, type Layout } from '../fit/types'
import { readGpt } from '../scheme/gpt'
import { surveyDrive } from '../survey/survey'
import { pattern } from '../testing'
import { blake3, makeSystemDisk, sha256 } from '../testing-disk'
import { planCopy } from './plan'
import { runCopy } from './run'

/** A drive that neither forgets ranges nor tells what is stored, and is full of another's bytes: an old hard disk. */
function oldDrive(size: number): { device: BlockDevice; inner: MemoryDevice } {
  const inner = new MemoryDevice(size)
  const device: BlockDevice = {
    size,
    logicalSectorSize: 512,
    physicalSectorSize: 512,
    read: (offset, into) => inner.read(offset, into),
    write: (offset, from) => inner.write(offset, from),
    flush: () => inner.flush(),
  }
  return { device, inner }
}

const files = fc
  .array(
    fc.record({
      bytes: fc.integer({ min: 0, max: 300_000 }),
      fragments: fc.integer({ min: 1, max: 40 }),
      gap: fc.nat({ max: 2000 }),
      written: fc.boolean(),
    }),
    { maxLength: 12 },
  )
  .map((list) =>
    list.map(({ bytes, fragments, gap, written }, i): NewFile => {
      const path = `/Museum/${i % 3}/file ${i}.dat`
      return written ? { path, content: pattern(bytes, i) } : { path, unwrittenBytes: bytes + 4096, fragments, gap }
    }),
  )

/** Digest of everything that was ever written to a device, with its places. */
async function digestOfStored(device: MemoryDevice): Promise<string> {
  const parts: string[] = []
  for (const { offset, length } of await device.mapped(0, device.size)) {
    parts.push(`${offset}:${toHex(sha256(await readBytes(device, offset, length)))}`)
  }
  return parts.join(' ')
}

async function expectSame(
  source: BlockDevice,
  target: BlockDevice,
  layout: Layout,
  made: readonly NewFile[],
): Promise<void> {
  expect((await readGpt(target))?.findings).toEqual([])
  for (const p of layout.partitions) {
    const { before, after } = fitSizes(p, layout)
    const old = await openFileSystem(new SliceDevice(source, p.sourceFirstLba * 512, before))
    const now = await openFileSystem(new SliceDevice(target, p.firstLba * 512, after))
    expect([now?.kind, now?.label, now?.serial, now?.state]).toEqual([old?.kind, old?.label, old?.serial, old?.state])
    expect(now?.findings ?? []).toEqual([])
    if (p.role !== 'system') continue
    expect(now!.totalBytes).toBe(after - 512)
    for (const { path } of made) {
      expect([path, toHex(sha256(await now!.readFile(path)))]).toEqual([path, toHex(sha256(await old!.readFile(path)))])
    }
  }
}

describe('any copy', () => {
  it('holds every file, in its grown volume, on any larger drive and whatever was on it', async () => {
    await fc.assert(
      fc.asyncProperty(
        files,
        fc.integer({ min: 0, max: 900 }),
        fc.constantFrom(0, 0.05, 0.2),
        fc.boolean(),
        async (made, moreMib, reserve, old) => {
          const source = await makeSystemDisk({ sizeBytes: 320 * MIB, systemFiles: made })
          const survey = await surveyDrive(source, sha256)
          const size = (320 + 400 * reserve + moreMib) * MIB
          const target = { sizeBytes: Math.ceil(size / 512) * 512, logicalSectorSize: 512 }
          const fit = solveFit(survey, target, { ...defaultWish(survey), reserve })
          fc.pre(fit.fits)
          if (!fit.fits) return
          const { device, inner } = oldDrive(target.sizeBytes)
          for (let at = 0; old && at < target.sizeBytes - MIB; at += 16 * MIB)
            await inner.write(at, pattern(MIB, at / MIB))
          const drive = old ? device : inner
          const before = await digestOfStored(source)
          const plan = await planCopy(readOnly(source), fit.layout)
          const outcome = await runCopy(plan, drive, { digest: blake3, note: 'x', onStep: async () => {} })
          expect(outcome.checkedBytes).toBe(plan.totalBytes)
          expect(outcome.bufferBytes).toBeLessThanOrEqual(64 * MIB)
          expect(await digestOfStored(source)).toBe(before)
          await expectSame(source, drive, fit.layout, made)
        },
      ),
      { numRuns: 6 },
    )
  }, 180_000)

  it('gives the same digest each time, and another one when a file differs', async () => {
    const digestOf = async (seed: number) => {
      const source = await makeSystemDisk({ systemFiles: [{ path: '/a', content: pattern(100_000, seed) }] })
      const fit = solveFit(await surveyDrive(source, sha256), { sizeBytes: 500 * MIB, logicalSectorSize: 512 })
      if (!fit.fits) throw new Error('it should fit')
      const plan = await planCopy(readOnly(source), fit.layout)
      return (await runCopy(plan, new MemoryDevice(500 * MIB), { digest: blake3, note: 'x', onStep: async () => {} }))
        .digest
    }
    const [first, again, other] = [await digestOf(1), await digestOf(1), await digestOf(2)]
    expect(again).toBe(first)
    expect(other).not.toBe(first)
  })
})
