import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { open } from 'node:fs/promises'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, describe, expect, it } from 'vitest'
import { closeWritten, writeFileBytes } from './file-bytes'

const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-bytes-'))
afterAll(() => rmSync(folder, { recursive: true, force: true }))

/** Bytes in memory that threads share, or in memory of this one. */
function bytesOf(length: number, seed: number, shared = true): Uint8Array {
  const bytes = new Uint8Array(shared ? new SharedArrayBuffer(length) : new ArrayBuffer(length))
  for (let i = 0; i < length; i++) bytes[i] = (i * 7 + seed + (i >> 9)) & 0xff
  return bytes
}

const LONG = 1024 * 1024 + 12_345

describe('bytes of a file', () => {
  it.each([
    ['a thread', LONG, true],
    ['the host’s own pool', LONG, false],
    ['the host’s own pool, being few', 4096, true],
  ])('are written where they belong by %s', async (_by, length, shared) => {
    const file = path.join(folder, 'written')
    const handle = await open(file, 'w+')
    const bytes = bytesOf(length, 3, shared)
    await writeFileBytes(handle, 513, bytes)
    await closeWritten(handle)
    const found = readFileSync(file)
    expect(found.length).toBe(513 + length)
    expect(found.subarray(0, 513).every((byte) => byte === 0)).toBe(true)
    expect(found.subarray(513).equals(bytes)).toBe(true)
  })

  it('reach as many files at once as are written, more of them than there are threads', async () => {
    const names = Array.from({ length: 9 }, (_, i) => path.join(folder, `many ${i}`))
    await Promise.all(
      names.map(async (name, i) => {
        const handle = await open(name, 'w')
        await Promise.all([0, 1, 2].map((part) => writeFileBytes(handle, part * LONG, bytesOf(LONG, i + part))))
        await closeWritten(handle)
      }),
    )
    for (const [i, name] of names.entries()) {
      const found = readFileSync(name)
      for (const part of [0, 1, 2])
        expect(found.subarray(part * LONG, (part + 1) * LONG).equals(bytesOf(LONG, i + part))).toBe(true)
    }
  })

  it('are refused as the host refuses them, and the next ones are written all the same', async () => {
    const full = await open('/dev/full', 'w')
    await expect(writeFileBytes(full, 0, bytesOf(LONG, 1))).rejects.toMatchObject({ code: 'ENOSPC' })
    await closeWritten(full)
    const reading = await open(path.join(folder, 'written'), 'r')
    await expect(writeFileBytes(reading, 0, bytesOf(LONG, 1))).rejects.toMatchObject({ code: 'EBADF' })
    await closeWritten(reading)
    const handle = await open(path.join(folder, 'after'), 'w+')
    await writeFileBytes(handle, 0, bytesOf(LONG, 5))
    await closeWritten(handle)
    expect(readFileSync(path.join(folder, 'after')).equals(bytesOf(LONG, 5))).toBe(true)
  })

  it('are all in the file when it is closed, whoever has asked for them', async () => {
    const file = path.join(folder, 'closed')
    const handle = await open(file, 'w')
    const writing = [0, 1, 2, 3, 4, 5].map((part) => writeFileBytes(handle, part * LONG, bytesOf(LONG, part)))
    await closeWritten(handle)
    expect(readFileSync(file).length).toBe(6 * LONG)
    await Promise.all(writing)
  })
})
