import { execFileSync, spawnSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { open } from 'node:fs/promises'
import path from 'node:path'
import { afterAll, afterEach, describe, expect, it, vi } from 'vitest'
import { BufferPool } from '@/core/copy/buffers'
import { DirectFile } from './direct-file'
import { HostStore } from './host-store'

/** A host that refuses long calls, or fails once. */
let [refuses, fails, refused] = [false, false, 0]
vi.mock(import('./write-threads'), async (original) => {
  const { writeByThread } = await original()
  return {
    writeByThread: async (order) => {
      if (fails) throw Object.assign(new Error('no room'), { code: 'ENOSPC' })
      if (!refuses || order.length < order.bytes.length) return writeByThread(order)
      refused++
      throw Object.assign(new Error('not this way'), { code: 'EINVAL' })
    },
  }
})
afterEach(() => void (refuses = fails = false))

// A folder on a disk, which the one for passing files may not be.
const folder = mkdtempSync('/var/tmp/imbarco-direct-')
afterAll(() => rmSync(folder, { recursive: true, force: true }))

const LONG = 4 * 1024 * 1024
const at = (name: string) => path.join(folder, name)
const probe = ['if=/dev/zero', `of=${at('probe')}`, 'bs=4096', 'count=1', 'oflag=direct', 'status=none']
const takesDirect = spawnSync('dd', probe).status === 0

function filled(bytes: Uint8Array, seed: number): Uint8Array {
  for (let i = 0; i < bytes.length; i++) bytes[i] = (i * 7 + seed + (i >> 9)) & 0xff
  return bytes
}

/** How many bytes of a file the host has in its memory, as an independent tool counts them. */
const kept = (file: string) => Number(execFileSync('fincore', ['-b', '-n', '-o', 'RES', file]).toString())

describe('long writes', () => {
  it('lie where they belong, whatever of them goes straight to the disk', async () => {
    const pool = new BufferPool(2, LONG)
    const [one, two] = [filled(await pool.take(), 1), filled(await pool.take(), 2)]
    const elsewhere = filled(new Uint8Array(new SharedArrayBuffer(LONG)), 3)
    const writes: [number, Uint8Array][] = [
      [0, one],
      // Its end is no sector’s; then in the middle of one, from the middle of one in memory, from memory of another kind.
      [LONG, two.subarray(0, LONG - 700)],
      [2 * LONG - 700, one.subarray(0, LONG)],
      [4 * LONG, two.subarray(512)],
      [6 * LONG, elsewhere],
      [7 * LONG, one],
    ]
    const store = await HostStore.create(at('written'))
    await Promise.all(writes.map(([offset, bytes]) => store.write(offset, bytes)))
    const back = new Uint8Array(LONG)
    await store.read(7 * LONG, back)
    expect(Buffer.compare(back, one)).toBe(0)
    await store.flush()
    await store.close()
    const expected = Buffer.alloc(8 * LONG)
    for (const [offset, bytes] of writes) expected.set(bytes, offset)
    expect(readFileSync(at('written')).equals(expected)).toBe(true)
  })

  it.skipIf(!takesDirect)(
    'leave nothing in the memory of the host, so that what is read back is on the disk',
    async () => {
      const bytes = filled(await new BufferPool(1, LONG).take(), 5)
      const store = await HostStore.create(at('past'))
      for (let i = 0; i < 4; i++) await store.write(i * LONG, bytes)
      await store.flush()
      await store.close()
      expect(kept(at('past'))).toBeLessThan(LONG)
      expect(readFileSync(at('past')).length).toBe(4 * LONG)
      expect(kept(at('past'))).toBe(4 * LONG)
    },
  )

  it.skipIf(!takesDirect)(
    'are read back from the disk, and what is short or ends in a sector all the same',
    async () => {
      const bytes = filled(await new BufferPool(1, LONG).take(), 8)
      const store = await HostStore.create(at('back'))
      for (let i = 0; i < 3; i++) await store.write(i * LONG, bytes.subarray(0, i === 2 ? LONG - 512 : LONG))
      await store.flush()
      await store.uncache()
      const into = await new BufferPool(1, LONG).take()
      for (const i of [0, 1]) {
        await store.read(i * LONG, into.fill(0))
        expect(Buffer.compare(into, bytes)).toBe(0)
      }
      expect(kept(at('back'))).toBeLessThan(LONG)
      await store.read(2 * LONG, into.subarray(0, LONG - 512).fill(0))
      expect(Buffer.compare(into.subarray(0, LONG - 512), bytes.subarray(0, LONG - 512))).toBe(0)
      // Beyond its end there is nothing.
      store.size = 4 * LONG
      await expect(store.read(3 * LONG, into)).rejects.toThrow(/shorter than it was/)
      await store.close()
    },
  )

  it('go the usual way after the first that the disk refuses, and from the start where none are taken', async () => {
    const bytes = filled(await new BufferPool(1, LONG).take(), 6)
    refuses = true
    const store = await HostStore.create(at('refused'))
    for (let i = 0; i < 2; i++) await store.write(i * LONG, bytes)
    await store.flush()
    await store.close()
    expect(refused).toBe(1)
    const found = readFileSync(at('refused'))
    for (let i = 0; i < 2; i++) expect(Buffer.compare(found.subarray(i * LONG, (i + 1) * LONG), bytes)).toBe(0)

    const full = await open('/dev/full', 'r+')
    const writer = new DirectFile(full)
    expect(await writer.write(0, bytes)).toBe(0)
    await writer.close()
    await full.close()
  })

  it('that fail for another reason are not tried the usual way', async () => {
    const file = await open(at('failed'), 'w+')
    const writer = new DirectFile(file)
    const bytes = filled(await new BufferPool(1, LONG).take(), 7)
    fails = true
    await expect(writer.write(0, bytes)).rejects.toMatchObject({ code: 'ENOSPC' })
    fails = false
    expect(await writer.write(0, bytes)).toBe(LONG)
    await writer.close()
    await file.close()
    expect(Buffer.compare(readFileSync(at('failed')), bytes)).toBe(0)
  })
})
