import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { MIB } from '../bytes/size'
import { pattern, runsOf, sameBytes } from '../testing'
import { readBytes } from './device'
import { ChangeLog, type LiveDevice, SnapshotDevice, SnapshotFull } from './live'
import { MemoryDevice } from './memory'

const SIZE = 4 * MIB

async function liveDevice(given?: MemoryDevice): Promise<LiveDevice & { raw: MemoryDevice }> {
  const raw = given ?? new MemoryDevice(SIZE)
  if (!given) await raw.write(0, pattern(SIZE, 1))
  const watchers = new Set<(offset: number, length: number) => Promise<void>>()
  return {
    raw,
    size: SIZE,
    logicalSectorSize: 512,
    physicalSectorSize: 512,
    read: (offset, into) => raw.read(offset, into),
    write: async (offset, from) => {
      for (const watcher of watchers) await watcher(offset, from.length)
      await raw.write(offset, from)
    },
    flush: async () => {},
    watch: (before) => {
      watchers.add(before)
      return () => watchers.delete(before)
    },
  }
}

const writes = fc.array(
  fc.record({ sector: fc.nat({ max: SIZE / 512 - 64 }), sectors: fc.integer({ min: 1, max: 60 }) }),
  {
    maxLength: 30,
  },
)

describe('a snapshot', () => {
  it('shows the moment it was made at, whatever is written and however reading and writing meet', async () => {
    await fc.assert(
      fc.asyncProperty(writes, fc.infiniteStream(fc.boolean()), async (list, together) => {
        const live = await liveDevice()
        const before = await readBytes(live.raw, 0, SIZE)
        const snapshot = new SnapshotDevice(live, { aside: new MemoryDevice(live.size), limitBytes: 2 * SIZE })
        const log = new ChangeLog(live)
        for (const [i, { sector, sectors }] of list.entries()) {
          const writing = live.write(sector * 512, pattern(sectors * 512, i + 2))
          if (!together.next().value) await writing
          const some = new Uint8Array(8192)
          await snapshot.read(Math.floor(sector / 16) * 8192, some)
          await writing
          const from = Math.floor(sector / 16) * 8192
          expect(sameBytes(some, before.subarray(from, from + 8192))).toBe(true)
        }
        expect(sameBytes(await readBytes(snapshot, 0, SIZE), before)).toBe(true)
        const now = await readBytes(live.raw, 0, SIZE)
        const changed = log.changed()
        for (let at = 0; at < SIZE; at += 4096) {
          const differs = !sameBytes(now.subarray(at, at + 4096), before.subarray(at, at + 4096))
          if (differs) expect(changed.some((e) => e.offset <= at && at < e.offset + e.length)).toBe(true)
        }
        expect(changed.length === 0).toBe(list.length === 0)
      }),
      { numRuns: runsOf(12, 300) },
    )
  })

  it('has the map of its moment too, so that a work list made of it stays the same', async () => {
    await fc.assert(
      fc.asyncProperty(writes, writes, async (first, then) => {
        const raw = new MemoryDevice(SIZE)
        for (const { sector, sectors } of first) await raw.write(sector * 512, pattern(sectors * 512, 1))
        const live = { ...(await liveDevice(raw)), mapped: (o: number, l: number) => raw.mapped(o, l) }
        const snapshot = new SnapshotDevice(live, { aside: new MemoryDevice(live.size), limitBytes: 2 * SIZE })
        const before = await raw.mapped(0, SIZE)
        for (const { sector, sectors } of then) await live.write(sector * 512, pattern(sectors * 512, 2))
        expect(await snapshot.mapped!(0, SIZE)).toEqual(before)
        const half = await snapshot.mapped!(MIB + 512, MIB)
        for (const { offset, length } of half) {
          expect(offset).toBeGreaterThanOrEqual(MIB + 512)
          expect(offset + length).toBeLessThanOrEqual(2 * MIB + 512)
        }
      }),
      { numRuns: runsOf(12, 300) },
    )
  })

  it('that overflows says so at the next reading, and does not show a mixture', async () => {
    const live = await liveDevice()
    const snapshot = new SnapshotDevice(live, { aside: new MemoryDevice(live.size), limitBytes: 3 * 65536 })
    for (let i = 0; i < 3; i++) await live.write(i * 65536, pattern(512, 9))
    expect((await readBytes(snapshot, 0, 512)).length).toBe(512)
    expect(snapshot.keptBytes).toBe(3 * 65536)
    await live.write(5 * 65536, pattern(512, 9))
    await expect(readBytes(snapshot, MIB, 512)).rejects.toBeInstanceOf(SnapshotFull)
    await expect(readBytes(snapshot, MIB, 512)).rejects.toThrow(/snapshot of 192 KiB|snapshot of 192/)
  })

  it('shows what it cannot hold as it is, and is never written', async () => {
    const live = await liveDevice()
    const snapshot = new SnapshotDevice(live, {
      aside: new MemoryDevice(live.size),
      limitBytes: SIZE,
      except: [{ offset: 0, length: MIB }],
    })
    await live.write(4096, pattern(512, 9))
    expect(sameBytes(await readBytes(snapshot, 4096, 512), pattern(512, 9))).toBe(true)
    await expect(snapshot.write()).rejects.toThrow(/reading only/)
  })
})
