import { promisify } from 'node:util'
import { deflate, deflateRaw } from 'node:zlib'
import fc from 'fast-check'
import { beforeAll, describe, expect, it } from 'vitest'
import { type BlockDevice, readBytes } from '../../block/device'
import { unionExtents } from '../../block/extents'
import { MemoryDevice } from '../../block/memory'
import type { CopyJournal, JournalRecord } from '../../copy/journal'
import { stateOf } from '../../copy/journal'
import type { CopyPlan } from '../../copy/plan'
import { planImage } from '../../copy/plan-whole'
import { runCopy } from '../../copy/run'
import { CoreError } from '../../errors'
import { readMarker } from '../../survey/marker'
import { deep, pattern, runsOf, sameBytes } from '../../testing'
import { blake3 } from '../../testing-disk'
import { openImage, TARGET_KINDS, type TargetKind, TARGETS } from '..'
import { MemoryStore } from '../testing-store'

const MIB = 1024 * 1024
/** More than one table of each format reaches over. */
const SIZE = 1100 * MIB + 512 * 9
const packs = { bare: promisify<Uint8Array, Buffer>(deflateRaw), zlib: promisify<Uint8Array, Buffer>(deflate) }

function guids() {
  let count = 0
  return () => `11111111-2222-4333-8444-${String(++count).padStart(12, '0')}`
}

const makeTarget = (kind: TargetKind, store: MemoryStore, begun = false, virtualBytes = SIZE) =>
  TARGETS[kind].make(store, {
    virtualBytes,
    sectorSize: 512,
    name: 'disk',
    time: Date.UTC(2026, 4, 3),
    guid: guids(),
    pack: (bytes, frame) => packs[frame](bytes),
    begun,
  })

const openParent = () => Promise.reject(new CoreError('There is no parent.'))
const reopen = async (store: MemoryStore, kind: TargetKind) => {
  const image = await openImage(store, { sectorSize: 512, openParent })
  expect(kind.startsWith(image.kind)).toBe(true)
  expect(image.findings).toEqual([])
  return image
}

/** Both give the same bytes wherever either says that it may hold any. */
async function sameDisk(a: BlockDevice, b: BlockDevice): Promise<boolean> {
  const all = [{ offset: 0, length: SIZE }]
  const [ofA, ofB] = [await a.mapped?.(0, SIZE), await b.mapped?.(0, SIZE)]
  for (const { offset, length } of unionExtents(ofA ?? all, ofB ?? all)) {
    for (let at = offset; at < offset + length; at += 4 * MIB) {
      const bytes = Math.min(4 * MIB, offset + length - at)
      if (!sameBytes(await readBytes(a, at, bytes), await readBytes(b, at, bytes))) return false
    }
  }
  return true
}

describe('the disk of a new image', () => {
  it.each(TARGET_KINDS)('%s: is what was written, in any order and again, to whoever opens the file', async (kind) => {
    const sector = fc.integer({ min: 0, max: SIZE / 512 - 1 })
    const write = fc.record({ lba: sector, sectors: fc.integer({ min: 1, max: 700 }), seed: fc.nat(250) })
    await fc.assert(
      fc.asyncProperty(fc.array(write, { minLength: 1, maxLength: 14 }), fc.nat(13), async (writes, flushed) => {
        const store = new MemoryStore()
        const disk = await makeTarget(kind, store)
        const model = new MemoryDevice(SIZE)
        for (const [i, { lba, sectors, seed }] of writes.entries()) {
          const length = Math.min(sectors * 512, SIZE - lba * 512)
          const bytes = seed % 5 === 0 ? new Uint8Array(length) : pattern(length, seed)
          for (const device of [disk, model]) await device.write(lba * 512, bytes)
          if (i === flushed) await disk.flush()
        }
        await disk.flush()
        await disk.header?.finish()
        const { device, virtualBytes } = await reopen(store, kind)
        expect(virtualBytes).toBe(SIZE)
        for (const one of [device, disk]) expect(await sameDisk(one, model)).toBe(true)
      }),
      { numRuns: runsOf(10, 200) },
    )
  })

  it('of a size that its format does not hold is refused', async () => {
    for (const kind of ['vhd', 'vhd-fixed', 'vmdk', 'vmdk-stream'] as const) {
      const made = Promise.resolve().then(() => makeTarget(kind, new MemoryStore(), false, 3 * 1024 ** 4))
      await expect(made).rejects.toThrow(/holds at most/)
    }
  })
})

/** The records that a journal in memory has kept. */
function journalInto(records: JournalRecord[]): CopyJournal {
  return { append: async (record) => void records.push(structuredClone(record)) }
}

class Power extends Error {}

/** A file of which what was written since it was last stored may be lost, at every place by itself. */
class FragileStore extends MemoryStore {
  private readonly pending: { offset: number; bytes: Uint8Array }[] = []
  private readonly stored: MemoryStore
  writes = 0
  failAt = Infinity

  constructor(from = new MemoryStore()) {
    super(from)
    this.stored = new MemoryStore(from)
  }

  override async write(offset: number, bytes: Uint8Array): Promise<void> {
    if (++this.writes >= this.failAt) throw new Power()
    this.pending.push({ offset, bytes: bytes.slice() })
    await super.write(offset, bytes)
  }

  override async truncate(length: number): Promise<void> {
    await super.truncate(length)
    await this.store()
    await this.stored.truncate(length)
  }

  override async flush(): Promise<void> {
    if (this.writes >= this.failAt) throw new Power()
    await this.store()
  }

  /** What is there when the power comes back; `kept` tells for each write whether it had arrived. */
  async after(kept: (index: number) => boolean): Promise<MemoryStore> {
    const left = new MemoryStore(this.stored)
    for (const [i, { offset, bytes }] of this.pending.entries()) if (kept(i)) await left.write(offset, bytes)
    return left
  }

  private async store(): Promise<void> {
    for (const { offset, bytes } of this.pending.splice(0)) await this.stored.write(offset, bytes)
  }
}

describe('a copy into an image', () => {
  const options = { digest: blake3, note: 'a test', job: 'job-1', work: 'w', onStep: async () => {} }
  let source: MemoryDevice
  let plan: CopyPlan

  beforeAll(async () => {
    source = new MemoryDevice(SIZE)
    // So many pieces that there are checkpoints among them.
    for (let group = 0; group < 12; group++)
      for (let i = 0; i < 18; i++)
        await source.write(group * 90 * MIB + i * 100_352, pattern(20_480, group * 18 + i + 1))
    await source.write(0, pattern(4096, 200))
    await source.write(SIZE - 512 * 40, pattern(512 * 40, 201))
    plan = await planImage(source, { stored: true })
  })

  it.each(TARGET_KINDS)('%s: that was cut off anywhere is no image, and resumes to the same disk', async (kind) => {
    /** Runs until it ends, or until the power goes at a write. */
    const runs = async (store: FragileStore, records: JournalRecord[], begun: boolean): Promise<boolean> => {
      const from = begun ? stateOf(records) : undefined
      try {
        await runCopy(plan, await makeTarget(kind, store, begun), { ...options, journal: journalInto(records), from })
        return true
      } catch (error) {
        if (!(error instanceof Power)) throw error
        return false
      }
    }
    const whole = new FragileStore()
    await runs(whole, [], false)
    expect(await sameDisk((await reopen(whole, kind)).device, source)).toBe(true)
    const cut = fc.record({ at: fc.double({ min: 0, max: 1, noNaN: true }), arrived: fc.nat(2 ** 20) })
    await fc.assert(
      fc.asyncProperty(fc.array(cut, { minLength: 1, maxLength: 3 }), async (cuts) => {
        let records: JournalRecord[] = []
        let left = new MemoryStore()
        for (const { at, arrived } of [...cuts, undefined].map((c) => c ?? { at: Infinity, arrived: 0 })) {
          // Before it was marked nothing tells whose a file is; that copy starts over.
          const begun = records.some((r) => r.did === 'erase')
          if (!begun) records = []
          const store = new FragileStore(begun ? left : new MemoryStore())
          store.failAt = Math.max(1, Math.floor(at * whole.writes))
          if (await runs(store, records, begun)) {
            expect(await sameDisk((await reopen(store, kind)).device, source)).toBe(true)
            return
          }
          left = await store.after((i) => ((arrived >> (i % 20)) & 1) === 1)
          if (!records.some((r) => r.did === 'erase')) continue
          const opened = await openImage(left, { sectorSize: 512, openParent })
          const isWhole = opened.kind !== 'raw' && (await sameDisk(opened.device, source))
          if (!isWhole) expect(await readMarker(opened.device)).toMatchObject({ job: 'job-1' })
        }
        expect.unreachable('the last run is not cut off')
      }),
      { numRuns: deep ? 200 : 3 },
    )
  })
})
