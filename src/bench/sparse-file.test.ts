import { mkdtempSync, openSync, rmSync, statSync, writeSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterEach, beforeEach, describe, expect, it } from 'vitest'
import { ReadOnlyDevice } from '@/core/block/device'
import { sameBytes } from '@/core/testing'
import { SparseFileDevice } from './sparse-file'

const MIB = 1024 * 1024
const SIZE = 64 * MIB
let folder: string
let file: string

beforeEach(() => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-sparse-'))
  file = path.join(folder, 'drive.img')
})
afterEach(() => rmSync(folder, { recursive: true, force: true }))

async function read(device: SparseFileDevice, offset: number, length: number): Promise<Uint8Array> {
  const bytes = new Uint8Array(length).fill(0xee)
  await device.read(offset, bytes)
  return bytes
}

const full = (length: number, byte: number) => new Uint8Array(length).fill(byte)

describe('a drive in a sparse file', () => {
  it('takes no room until it is written, and remembers over a restart what was', async () => {
    const device = await SparseFileDevice.create(file, SIZE)
    expect(await device.mapped(0, SIZE)).toEqual([])
    await device.write(10 * MIB, full(4096, 7))
    await device.close()
    expect(statSync(file).size).toBe(SIZE)
    const again = await SparseFileDevice.open(file, { writable: false })
    expect(await again.mapped(0, SIZE)).toEqual([{ offset: 10 * MIB, length: 64 * 1024 }])
    expect(sameBytes(await read(again, 10 * MIB, 4096), full(4096, 7))).toBe(true)
    expect(sameBytes(await read(again, 20 * MIB, 4096), full(4096, 0))).toBe(true)
    await again.close()
  })

  it('opened for reading takes no write', async () => {
    await (await SparseFileDevice.create(file, SIZE)).close()
    const device = await SparseFileDevice.open(file, { writable: false })
    await expect(device.write(0, full(512, 1))).rejects.toBeInstanceOf(ReadOnlyDevice)
    await expect(device.discard(0, 512)).rejects.toBeInstanceOf(ReadOnlyDevice)
    await device.close()
  })

  it('forgets what is discarded, at the end of the drive and in its middle', async () => {
    const device = await SparseFileDevice.create(file, SIZE)
    await device.write(0, full(MIB, 1))
    await device.write(30 * MIB, full(MIB, 2))
    await device.discard(30 * MIB + 512, 1024)
    expect((await read(device, 30 * MIB + 512, 512))[0]).toBe(0)
    expect((await read(device, 30 * MIB, 512))[0]).toBe(2)
    await device.discard(512, SIZE - 512)
    expect((await read(device, 0, 512))[0]).toBe(1)
    expect((await read(device, 512, 512))[0]).toBe(0)
    expect((await read(device, 30 * MIB, 512))[0]).toBe(0)
    expect(await device.mapped(0, SIZE)).toEqual([{ offset: 0, length: 64 * 1024 }])
    await device.close()
  })

  it('whose file was changed behind its back is asked of the host, and not guessed', async () => {
    const device = await SparseFileDevice.create(file, SIZE)
    await device.close()
    const raw = openSync(file, 'r+')
    writeSync(raw, full(512, 9), 0, 512, 40 * MIB)
    const again = await SparseFileDevice.open(file, { writable: false })
    // Where the host can tell holes, that stretch and no more; where it cannot, everything.
    const covers = (await again.mapped(0, SIZE)).some(
      (e) => e.offset <= 40 * MIB && 40 * MIB + 512 <= e.offset + e.length,
    )
    expect(covers).toBe(true)
    expect((await read(again, 40 * MIB, 512))[0]).toBe(9)
    await again.close()
  })

  it('that was cut off in the middle of writing says too much rather than too little', async () => {
    const device = await SparseFileDevice.create(file, SIZE)
    await device.write(5 * MIB, full(512, 3))
    // Opened by another before the first was closed: the same as after a power cut.
    const after = await SparseFileDevice.open(file, { writable: false })
    const mapped = await after.mapped(5 * MIB, 512)
    expect(mapped).toEqual([{ offset: 5 * MIB, length: 512 }])
    await after.close()
    await device.close()
  })

  it('on a host without room reports it in a sentence', async () => {
    const device = await SparseFileDevice.create(file, SIZE)
    const handle = (device as unknown as { file: { write: unknown } }).file
    const original = handle.write
    handle.write = async () => Promise.reject(Object.assign(new Error('no space'), { code: 'ENOSPC' }))
    await expect(device.write(0, full(512, 1))).rejects.toThrow(/data folder is full/)
    handle.write = original
    await device.close()
  })
})
