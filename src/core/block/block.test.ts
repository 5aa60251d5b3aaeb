import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { deltaOf, layDelta } from './chunk-delta'
import { CompositeDevice } from './composite'
import {
  type BlockDevice,
  isZero,
  OutOfRange,
  readBytes,
  ReadOnlyDevice,
  UnreadableSectors,
  writeBytes,
} from './device'
import { commonExtents, mergeExtents, unionExtents } from './extents'
import { FaultyDevice } from './faulty'
import { MemoryDevice } from './memory'
import { OverlayDevice } from './overlay'
import { ReadCacheDevice } from './read-cache'
import { readOnly } from './readonly'
import { SliceDevice } from './slice'
import { collect, runsOf, sameBytes } from '../testing'

const KIB = 1024
const SIZE = 512 * KIB

async function all(device: BlockDevice): Promise<Uint8Array> {
  return new Uint8Array(await readBytes(device, 0, device.size))
}

const writes = fc.array(
  fc.record({ sector: fc.nat({ max: 1000 }), count: fc.integer({ min: 1, max: 24 }), byte: fc.nat({ max: 255 }) }),
  { maxLength: 30 },
)

describe('devices', () => {
  it('that stand before another one let go of what is kept of it, too', async () => {
    let times = 0
    const base: BlockDevice = Object.assign(new MemoryDevice(SIZE), { uncache: async () => void times++ })
    for (const device of [new SliceDevice(base, 512, 1024), readOnly(base), new FaultyDevice(base, [])])
      await device.uncache?.()
    expect(times).toBe(3)
    expect(new SliceDevice(new MemoryDevice(SIZE), 0, 512).uncache).toBeUndefined()
  })

  it('to look around in give what the one below has, and fail where that does', async () => {
    const base = new MemoryDevice(SIZE + 512)
    for (let sector = 0; sector * 512 < base.size; sector++)
      await base.write(sector * 512, new Uint8Array(512).fill((sector * 7) % 251))
    const cached = new ReadCacheDevice(new FaultyDevice(base, [{ firstLba: 300, count: 2 }]))
    const model = await all(base)
    await fc.assert(
      fc.asyncProperty(fc.nat({ max: 1024 }), fc.integer({ min: 1, max: 260 }), async (first, count) => {
        const offset = Math.min(first * 512, base.size - count * 512)
        const wanted = { from: offset / 512, to: offset / 512 + count }
        const read = readBytes(cached, offset, count * 512)
        if (wanted.from < 302 && wanted.to > 300) await expect(read).rejects.toThrow(UnreadableSectors)
        else expect(sameBytes(new Uint8Array(await read), model.slice(offset, offset + count * 512))).toBe(true)
      }),
    )
    await expect(cached.write()).rejects.toThrow(ReadOnlyDevice)
  })

  it('hold what a plain array would hold', async () => {
    await fc.assert(
      fc.asyncProperty(writes, fc.nat({ max: 3 }), async (list, keptWhole) => {
        const base = new MemoryDevice(SIZE)
        await base.write(0, new Uint8Array(8192).fill(0xaa))
        const overlay = new OverlayDevice(base, SIZE, keptWhole)
        const slice = new SliceDevice(overlay, 4096, SIZE - 4096)
        const model = await all(base)
        for (const { sector, count, byte } of list) {
          const offset = Math.min(sector * 512, slice.size - count * 512)
          const bytes = new Uint8Array(count * 512).fill(byte)
          await slice.write(offset, bytes)
          model.set(bytes, 4096 + offset)
        }
        expect(sameBytes(await all(overlay), model)).toBe(true)
        expect(sameBytes(await all(slice), model.slice(4096))).toBe(true)
        // What is not mapped reads as zeros; the base below an overlay stays as it was.
        const mapped = await overlay.mapped!(0, SIZE)
        const rest = model.slice()
        for (const { offset, length } of mapped) rest.fill(0, offset, offset + length)
        expect(isZero(rest)).toBe(true)
        expect((await all(base)).subarray(8192).every((b) => b === 0)).toBe(true)
      }),
      { numRuns: runsOf(20, 400) },
    )
  })

  it('give back from what differs in a chunk what was written', () => {
    const chunk = fc.uint8Array({ minLength: 4096, maxLength: 4096, max: 3 })
    const places = fc.array(fc.tuple(fc.nat({ max: 4095 }), fc.integer({ min: 1, max: 300 }), fc.nat({ max: 255 })))
    fc.assert(
      fc.property(chunk, places, fc.nat({ max: 4000 }), fc.nat({ max: 4096 }), (base, changes, from, length) => {
        const changed = base.slice()
        for (const [at, count, byte] of changes) changed.fill(byte, at, at + count)
        const delta = deltaOf(base, changed)
        if (!delta) return
        const part = base.slice(from, from + length)
        layDelta(delta, from, part)
        expect(sameBytes(part, changed.subarray(from, from + length))).toBe(true)
      }),
    )
    const twice = new Uint8Array(4096).map((_, i) => i % 2)
    expect(deltaOf(new Uint8Array(4096), twice)).toBeUndefined()
    expect(deltaOf(twice, twice)).toHaveLength(0)
  })

  it('refuse what is not whole sectors inside them', async () => {
    const device = new MemoryDevice(SIZE)
    await expect(device.read(100, new Uint8Array(512))).rejects.toBeInstanceOf(OutOfRange)
    await expect(device.write(SIZE - 512, new Uint8Array(1024))).rejects.toBeInstanceOf(OutOfRange)
    await expect(readBytes(device, SIZE - 10, 20)).rejects.toBeInstanceOf(OutOfRange)
    expect(() => new SliceDevice(device, SIZE - 512, 1024)).toThrow(OutOfRange)
  })

  it('take writes that are no whole sectors through writeBytes, keeping what is around them', async () => {
    const device = new MemoryDevice(SIZE)
    await device.write(0, new Uint8Array(1024).fill(1))
    await writeBytes(device, 510, Uint8Array.of(9, 9, 9, 9))
    expect([...(await readBytes(device, 508, 8))]).toEqual([1, 1, 9, 9, 9, 9, 1, 1])
  })

  it('read as zeros where they were discarded', async () => {
    const device = new MemoryDevice(SIZE)
    await device.write(0, new Uint8Array(SIZE).fill(5))
    await device.discard(512, 200 * KIB)
    const bytes = await all(device)
    expect(isZero(bytes.subarray(512, 512 + 200 * KIB))).toBe(true)
    expect(bytes[511]).toBe(5)
    expect(bytes[512 + 200 * KIB]).toBe(5)
  })

  it('name unreadable sectors in their own numbers', async () => {
    const failing = {
      ...readOnly(new MemoryDevice(SIZE)),
      read: async () => Promise.reject(new UnreadableSectors([20])),
    }
    const slice = new SliceDevice(failing, 8 * 512, 64 * 512)
    await expect(slice.read(0, new Uint8Array(512))).rejects.toMatchObject({ sectors: [12] })
  })

  it('opened for reading only are not written', async () => {
    const device = new MemoryDevice(SIZE)
    await expect(readOnly(device).write(0, new Uint8Array(512))).rejects.toBeInstanceOf(ReadOnlyDevice)
    expect(isZero(await all(device))).toBe(true)
  })

  it('put together show their parts and zeros between', async () => {
    const part = new MemoryDevice(4096)
    await part.write(0, new Uint8Array(4096).fill(3))
    const whole = new CompositeDevice(SIZE, 512, [{ at: 8192, device: part }])
    const expected = new Uint8Array(SIZE).fill(3, 8192, 12288)
    expect(sameBytes(await all(whole), expected)).toBe(true)
    expect(await whole.mapped(0, SIZE)).toEqual([{ offset: 8192, length: 4096 }])
    expect(
      () =>
        new CompositeDevice(SIZE, 512, [
          { at: 0, device: part },
          { at: 2048, device: part },
        ]),
    ).toThrow(/overlap/)
  })
})

describe('extents', () => {
  it('have in common what lies in both', () => {
    const lists = fc
      .array(fc.tuple(fc.nat({ max: 300 }), fc.integer({ min: 1, max: 40 })), { maxLength: 12 })
      .map((list) =>
        unionExtents(
          list.map(([offset, length]) => ({ offset, length })),
          [],
        ),
      )
    const covers = (list: readonly { offset: number; length: number }[], at: number) =>
      list.some(({ offset, length }) => at >= offset && at < offset + length)
    fc.assert(
      fc.property(lists, lists, (a, b) => {
        const common = commonExtents(a, b)
        for (let at = 0; at < 360; at++) expect(covers(common, at)).toBe(covers(a, at) && covers(b, at))
      }),
    )
  })

  const extent = fc.record({ offset: fc.nat({ max: 500 }), length: fc.integer({ min: 1, max: 40 }) })
  const covered = (list: readonly { offset: number; length: number }[]) => {
    const bytes = new Uint8Array(600)
    for (const { offset, length } of list) bytes.fill(1, offset, offset + length)
    return bytes
  }

  it('merged cover the same and stand apart', async () => {
    await fc.assert(
      fc.asyncProperty(fc.array(extent), async (list) => {
        const sorted = [...list].sort((a, b) => a.offset - b.offset)
        const merged = await collect(mergeExtents(sorted))
        expect(sameBytes(covered(merged), covered(list))).toBe(true)
        merged.slice(1).forEach((e, i) => expect(e.offset).toBeGreaterThan(merged[i].offset + merged[i].length))
      }),
    )
  })

  it('united cover what either covers', () => {
    fc.assert(
      fc.property(fc.array(extent), fc.array(extent), (a, b) => {
        expect(sameBytes(covered(unionExtents(a, b)), covered([...a, ...b]))).toBe(true)
      }),
    )
  })
})
