import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { type BlockDevice, isZero, readBytes } from '../block/device'
import { unionExtents } from '../block/extents'
import { FaultyDevice } from '../block/faulty'
import { MemoryDevice } from '../block/memory'
import { readOnly } from '../block/readonly'
import { SliceDevice } from '../block/slice'
import { MIB } from '../bytes/size'
import { openFileSystem } from '../filesystem'
import { solveInto } from '../fit/into'
import type { Layout } from '../fit/types'
import { writeGpt } from '../scheme/gpt'
import { MBR_TYPES } from '../scheme/mbr-layout'
import { mbrWrites } from '../scheme/mbr-write'
import { type GptPartition, TYPE_GUIDS } from '../scheme/types'
import { surveyDrive } from '../survey/survey'
import { deep, pattern, sameBytes } from '../testing'
import { blake3, makeSystemDisk, part, sha256, storedDigest } from '../testing-disk'
import { planInto } from './plan-into'
import { addPlace, putOf, retryPut, runPut } from './put-volume'

const VOLUME = 3
const SOURCE = makeSystemDisk({ systemFiles: [{ path: '/Charts/north.tif', content: pattern(3 * MIB, 6) }] })

/** A drive with a GPT of these partitions, in MiB, each with something of its own at both ends. */
async function gptDrive(parts: readonly { readonly at: number; readonly mib: number; readonly number?: number }[]) {
  const device = new MemoryDevice(1024 * MIB)
  const partitions = parts.map(({ at, mib, number }, i): GptPartition => {
    const guid = `0000000${i}-1111-4111-8111-111111111111`
    return part(number ?? i + 1, TYPE_GUIDS.linuxData, guid, `part ${i}`, at * 2048, mib * 2048)
  })
  await writeGpt(device, { diskGuid: SOURCE_FREE, entryCount: 128, entrySize: 128, partitions })
  await fill(device, parts)
  return device
}
const SOURCE_FREE = '21f0c1d2-1111-4222-8333-4444555533c7'

async function fill(device: MemoryDevice, parts: readonly { readonly at: number; readonly mib: number }[]) {
  for (const [i, { at, mib }] of parts.entries()) {
    await device.write(at * MIB, pattern(4096, 40 + i))
    await device.write((at + mib) * MIB - 4096, pattern(4096, 60 + i))
  }
}

async function laid(target: BlockDevice, into: number | 'free', source: BlockDevice = readOnly(SOURCE_DEVICE)) {
  const survey = await surveyDrive(target, sha256)
  const fit = solveInto(await surveyDrive(source, sha256), survey, VOLUME, { into })
  if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
  return fit.layout
}
const SOURCE_DEVICE = await SOURCE

const keep = { keep: async () => {} }
const options = { digest: blake3, sha256, note: 'Grading', onStep: async () => {}, tableJournal: keep }

async function put(target: BlockDevice, layout: Layout, source: BlockDevice = readOnly(SOURCE_DEVICE)) {
  if (layout.into!.before === '') await addPlace(target, layout, keep)
  const plan = await putOf(target, await surveyDrive(target, sha256), layout)
  return runPut(target, plan, await planInto(source, layout), options)
}

/** Where two devices differ, by sector. */
async function differing(a: MemoryDevice, b: MemoryDevice): Promise<number[]> {
  const found: number[] = []
  for (const { offset, length } of unionExtents(await a.mapped(0, a.size), await b.mapped(0, b.size))) {
    const [x, y] = [await readBytes(a, offset, length), await readBytes(b, offset, length)]
    if (sameBytes(x, y)) continue
    for (let s = 0; s < length; s += 512)
      if (!sameBytes(x.subarray(s, s + 512), y.subarray(s, s + 512))) found.push((offset + s) / 512)
  }
  return found
}

async function copyOf(device: MemoryDevice): Promise<MemoryDevice> {
  const copy = new MemoryDevice(device.size)
  for (const { offset, length } of await device.mapped(0, device.size)) {
    const bytes = await readBytes(device, offset, length)
    if (!isZero(bytes)) await copy.write(offset, bytes)
  }
  return copy
}

describe('a volume that is put into a partition', () => {
  it('changes nothing outside of the partition and the fields of its entry, in any table', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.constantFrom('gpt', 'mbr'),
        fc.array(fc.record({ gap: fc.integer({ min: 0, max: 9 }), mib: fc.integer({ min: 3, max: 40 }) }), {
          minLength: 1,
          maxLength: 3,
        }),
        fc.nat(),
        fc.boolean(),
        async (scheme, others, which, free) => {
          // One of them is the place of the volume, and large enough for it.
          const chosen = which % (others.length + 1)
          let next = 1
          const all = [...others.slice(0, chosen), { gap: 1, mib: 420 }, ...others.slice(chosen)].map(
            ({ gap, mib }) => {
              const at = next + gap
              next = at + mib
              return { at, mib }
            },
          )
          const there = free ? all.filter((_, i) => i !== chosen) : all
          const target = scheme === 'gpt' ? await gptDrive(there) : await mbrDrive(there)
          const before = await copyOf(target)
          const layout = await laid(target, free ? 'free' : chosen + 1)
          await put(target, layout)
          const [{ firstLba, lastLba, number }] = layout.partitions
          const outside = (await differing(before, target)).filter((lba) => lba < firstLba || lba > lastLba)
          const last = target.size / 512 - 1
          // One entry lies in one sector of each copy; the headers have the sums over it.
          const entries = 2 + Math.floor((number - 1) / 4)
          const allowed = scheme === 'mbr' ? [0] : [1, entries, last - 33 + entries - 1, last]
          expect(outside.filter((lba) => !allowed.includes(lba))).toEqual([])
          const after = await surveyDrive(target, sha256)
          expect(after.findings.filter((f) => f.severity === 'damage')).toEqual([])
          expect(after.partitions.find((p) => p.number === number)!.volume).toMatchObject({
            kind: 'ntfs',
            state: 'clean',
          })
        },
      ),
      { numRuns: deep ? 200 : 6 },
    )
  })

  it('names what the source did not give by its place on the drive, and takes it up later', async () => {
    const survey = await surveyDrive(SOURCE_DEVICE, sha256)
    const { startBytes, sizeBytes } = survey.partitions.find((p) => p.number === VOLUME)!
    const volume = (await openFileSystem(new SliceDevice(SOURCE_DEVICE, startBytes, sizeBytes)))!
    const [{ offset }] = await volume.fileExtents!('/Charts/north.tif')
    const bad = (startBytes + offset) / 512 + 40
    const failing = new FaultyDevice(readOnly(SOURCE_DEVICE), [{ firstLba: bad, count: 2 }])
    const target = await gptDrive([
      { at: 2, mib: 20 },
      { at: 30, mib: 400 },
    ])
    const layout = await laid(target, 2, failing)
    const { lost } = await put(target, layout, failing)
    expect(lost).toMatchObject([{ partition: 2, sourceLba: bad, sectors: 2, files: ['/Charts/north.tif'] }])
    const [{ firstLba, lastLba }] = layout.partitions
    expect(lost[0].targetLba).toBeGreaterThan(firstLba)
    expect(lost[0].targetLba).toBeLessThan(lastLba)
    const before = await copyOf(target)
    const again = await retryPut(target, layout, await planInto(readOnly(SOURCE_DEVICE), layout), lost)
    expect(again).toEqual({ wonBytes: 1024, lost: [] })
    expect(await differing(before, target)).toEqual([lost[0].targetLba, lost[0].targetLba + 1])
    const there = new SliceDevice(target, firstLba * 512, (lastLba - firstLba + 1) * 512)
    const file = await (await openFileSystem(there))!.readFile('/Charts/north.tif')
    expect(sameBytes(file, pattern(3 * MIB, 6))).toBe(true)
  })

  it('makes its entry once, and not where the table has become another', async () => {
    const target = await gptDrive([{ at: 2, mib: 20 }])
    const layout = await laid(target, 'free')
    await addPlace(target, layout, keep)
    const once = await storedDigest(target)
    await addPlace(target, layout, keep)
    expect(await storedDigest(target)).toBe(once)
    const other = await gptDrive([
      { at: 2, mib: 20 },
      { at: 40, mib: 8 },
    ])
    const before = await storedDigest(other)
    await expect(addPlace(other, layout, keep)).rejects.toThrow(/not what it was|lies where/)
    expect(await storedDigest(other)).toBe(before)
  })
})

async function mbrDrive(parts: readonly { readonly at: number; readonly mib: number }[]): Promise<MemoryDevice> {
  const device = new MemoryDevice(1024 * MIB)
  const primary = parts.map(({ at, mib }, i) => ({
    ...{ type: MBR_TYPES.linux, firstLba: at * 2048, sectors: mib * 2048 },
    active: i === 0,
  }))
  const table = { diskSignature: '5ac01d7e', bootCode: pattern(400, 3), primary }
  for (const { offset, bytes } of mbrWrites(table, 512)) await device.write(offset, bytes)
  await fill(device, parts)
  return device
}
