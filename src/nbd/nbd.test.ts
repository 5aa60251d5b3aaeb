import fc from 'fast-check'
import { createHash } from 'node:crypto'
import { connect } from 'node:net'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { type BlockDevice, DeviceGone, readBytes, ReadOnlyDevice, UnreadableSectors } from '@/core/block/device'
import { FaultyDevice } from '@/core/block/faulty'
import { MemoryDevice } from '@/core/block/memory'
import { readOnly } from '@/core/block/readonly'
import { WrappedDevice } from '@/core/block/wrapped'
import { pieceDigest } from '@/core/copy/piece-digests'
import type { Digest } from '@/core/digest'
import { pattern, runsOf } from '@/core/testing'
import { nbdAddress, nbdUri } from './address'
import { NbdFile } from './client'
import { LentDevice } from './device'
import { ConnectionLost, NotLent } from './errors'
import { keyOfCode, keyOfText, newCode, textOfKey } from './key'
import type { LenderEvent } from './lender'
import { negotiate } from './negotiate'
import { COMMAND, DEFAULT_MOST_BYTES, REQUEST, REQUEST_MAGIC } from './protocol'
import { addressOf, lentHere, type LentOptions, linkTo } from './testing'

const MIB = 1024 * 1024
const SIZE = 8 * MIB

const digest: Digest = (bytes) => createHash('sha256').update(bytes).digest()

/** What is opened in a test and ends with it. */
const ends: (() => Promise<unknown>)[] = []
afterEach(async () => {
  for (const end of ends.splice(0).reverse()) await end()
})

async function lent(device: BlockDevice, options?: LentOptions) {
  const made = await lentHere(device, options)
  ends.push(() => made.lender.close())
  return made
}

async function borrowed(address: Parameters<typeof NbdFile.open>[0], options?: Parameters<typeof NbdFile.open>[1]) {
  const file = await NbdFile.open(address, options)
  ends.push(() => file.close())
  return file
}

async function filled(size = SIZE, sectorSize: 512 | 4096 = 512) {
  const device = new MemoryDevice(size, sectorSize)
  await device.write(MIB, pattern(2 * MIB, 3))
  await device.write(5 * MIB, pattern(64 * 1024, 4))
  return device
}

async function bytesOf(device: Pick<BlockDevice, 'size' | 'read'>): Promise<Uint8Array> {
  const bytes = new Uint8Array(device.size)
  await device.read(0, bytes)
  return bytes
}

describe('an address', () => {
  it('is read as it is written', () => {
    fc.assert(
      fc.property(
        fc.record({
          tls: fc.boolean(),
          host: fc.constantFrom('127.0.0.1', 'bench.local', '::1'),
          port: fc.integer({ min: 1, max: 65_535 }),
          exportName: fc.string({ unit: fc.constantFrom('a', 'ö', ' ', '/', '%', '?', '#', '7'), maxLength: 12 }),
        }),
        (address) => {
          expect(nbdAddress(nbdUri(address))).toEqual(address)
        },
      ),
    )
    expect(nbdAddress('nbd://host/').port).toBe(10_809)
    expect(nbdAddress('nbd://host:80/').port).toBe(80)
  })

  it.each([
    'http://host/',
    'nbd:',
    'nbd://',
    'nbd://host:0/',
    'nbd://host:99999/',
    'nbd://host/%zz',
    'nbd://u:p@host/',
  ])('is refused: %s', (text) => expect(() => nbdAddress(text)).toThrow(/no address/))
})

describe('a code', () => {
  it('makes the same key however it is typed, and a key is read as it is written', () => {
    const code = newCode()
    const key = keyOfCode(code)
    expect(keyOfCode(code.toLowerCase().replaceAll('-', ' '))).toEqual(key)
    expect(keyOfText(textOfKey(key))).toEqual(key)
    expect(keyOfCode(newCode())).not.toEqual(key)
    expect(() => keyOfCode('ABCD')).toThrow(/12 letters/)
    expect(() => keyOfText('nobody')).toThrow(/hexadecimal/)
  })
})

describe('what is lent', () => {
  it.each([512, 4096] as const)('reads as it is, with its holes, in sectors of %i', async (sectorSize) => {
    const device = await filled(SIZE, sectorSize)
    const { address } = await lent(device, { writable: false })
    const file = await borrowed(address)
    expect([file.size, file.isReadOnly, file.minimumBytes, file.description]).toEqual([
      SIZE,
      true,
      sectorSize,
      'a disk',
    ])
    expect(await file.mapped!(0, SIZE)).toEqual(await device.mapped!(0, SIZE).then(spread))
    expect(Buffer.compare(await bytesOf(file), await bytesOf(device))).toBe(0)
    await expect(new LentDevice(file, 512).write(0, new Uint8Array(512))).rejects.toThrow(ReadOnlyDevice)
  })

  it('tells its holes in any range as the device does', async () => {
    const size = 600 * MIB
    const device = new MemoryDevice(size)
    for (const at of [0, 3, 255, 256, 300, 511, 599]) await device.write(at * MIB, pattern(MIB, at + 1))
    for (const writable of [false, true]) {
      const { address } = await lent(device, { writable })
      const file = await borrowed(address)
      const unit = 64 * 1024
      await fc.assert(
        fc.asyncProperty(fc.nat(size / unit - 1), fc.integer({ min: 1, max: 6000 }), async (first, count) => {
          const offset = first * unit
          const length = Math.min(count * unit, size - offset)
          expect(await file.mapped!(offset, length)).toEqual(await device.mapped(offset, length).then(spread))
        }),
        { numRuns: runsOf(40, 1000) },
      )
    }
  })

  it('is written, cleared and flushed as a device of memory is', async () => {
    const sector = 512
    const place = fc.record({ at: fc.integer({ min: 0, max: 4000 }), count: fc.integer({ min: 1, max: 3000 }) })
    const step = fc.record({
      kind: fc.constantFrom('write', 'discard', 'flush', 'read'),
      place,
      seed: fc.integer({ min: 1, max: 250 }),
    })
    await fc.assert(
      fc.asyncProperty(fc.array(step, { maxLength: 12 }), async (steps) => {
        const own = new MemoryDevice(7000 * sector)
        const { address, lender } = await lentHere(new MemoryDevice(own.size))
        const file = await NbdFile.open(address)
        const device = new LentDevice(file, 512)
        for (const {
          kind,
          place: { at, count },
          seed,
        } of steps) {
          const length = count * sector
          for (const one of [own, device]) {
            if (kind === 'write') await one.write(at * sector, pattern(length, seed))
            if (kind === 'discard') await one.discard(at * sector, length)
            if (kind === 'flush') await one.flush()
          }
          const [ours, theirs] = [new Uint8Array(length), new Uint8Array(length)]
          await own.read(at * sector, ours)
          await device.read(at * sector, theirs)
          expect(Buffer.compare(ours, theirs)).toBe(0)
        }
        expect(Buffer.compare(await bytesOf(own), await bytesOf(device))).toBe(0)
        await file.close()
        await lender.close()
      }),
      { numRuns: runsOf(15, 200) },
    )
  })

  it('tells digests of ranges where it takes them, which are those of the same bytes here', async () => {
    const device = await filled(SIZE, 512)
    const { address } = await lent(device, { digest })
    const told = await borrowed(address)
    await fc.assert(
      fc.asyncProperty(fc.nat(SIZE / 512 - 1), fc.integer({ min: 1, max: 4096 }), async (first, count) => {
        const offset = first * 512
        const length = Math.min(count * 512, SIZE - offset)
        const here = pieceDigest(await readBytes(device, offset, length), digest)
        expect(Buffer.compare((await told.digestOf(offset, length))!, here)).toBe(0)
      }),
      { numRuns: runsOf(30, 500) },
    )
    // One that takes none is read here, as is a range that is too long for one answer.
    expect(await (await borrowed((await lent(device)).address)).digestOf(0, 4096)).toBeUndefined()
    const large = await lent(new MemoryDevice(2 * DEFAULT_MOST_BYTES), { digest })
    expect(await (await borrowed(large.address)).digestOf(0, 2 * DEFAULT_MOST_BYTES)).toBeUndefined()
  })

  it('that does not give a sector tells no digest of it, so that it is read', async () => {
    const faulty = new FaultyDevice(await filled(), [{ firstLba: 2050, count: 1 }])
    const { address } = await lent(faulty, { digest })
    const told = await borrowed(address)
    expect(await told.digestOf(MIB, 8192)).toBeUndefined()
    expect(await told.digestOf(2 * MIB, 8192)).toHaveLength(16)
  })

  it('names the sectors that its medium does not give', async () => {
    const { address } = await lent(
      new FaultyDevice(await filled(), [
        { firstLba: 2100, count: 3 },
        { firstLba: 9000, count: 1 },
      ]),
    )
    const file = await borrowed(address)
    const error = await file.read(MIB, new Uint8Array(5 * MIB)).catch((e: unknown) => e)
    expect(error).toBeInstanceOf(UnreadableSectors)
    expect((error as UnreadableSectors).sectors).toEqual([2100, 2101, 2102, 9000])
  })

  it('is given to nobody without the key, with another one, or without a yes', async () => {
    const events: LenderEvent[] = []
    const key = keyOfCode(newCode())
    const device = readOnly(await filled())
    const reads = vi.spyOn(device, 'read')
    const allow = vi.fn(async () => false)
    const { address } = await lent(device, { key, allow, onEvent: (event) => events.push(event) })
    await expect(NbdFile.open({ ...address, tls: false })).rejects.toThrow(NotLent)
    await expect(NbdFile.open(address)).rejects.toThrow(/none was given/)
    await expect(NbdFile.open(address, { key: keyOfCode(newCode()) })).rejects.toThrow(/does not take this key/)
    await expect(NbdFile.open({ ...address, exportName: 'other' }, { key })).rejects.toThrow(/lent there/)
    expect(allow).not.toHaveBeenCalled()
    await expect(NbdFile.open(address, { key })).rejects.toThrow(/not allowed/)
    expect(allow).toHaveBeenCalledTimes(1)
    expect(reads).not.toHaveBeenCalled()
    await vi.waitUntil(() => events.some((e) => e.type === 'refused'))
    expect(events.map((e) => e.type)).toEqual(['wrong key', 'asks', 'refused'])
  })

  it('can be taken back', async () => {
    const { address, lender } = await lent(await filled())
    const file = await borrowed(address, { patienceMs: 0 })
    lender.takeBack(lender.borrowers[0].peer)
    await vi.waitUntil(() => lender.borrowers.length === 0)
    await lender.close()
    await expect(file.read(0, new Uint8Array(512))).rejects.toThrow(DeviceGone)
  })
})

describe('a connection', () => {
  it('that drops is taken up again, and every byte is the one that was asked for', async () => {
    const device = await filled()
    const { lender } = await lent(device)
    const link = await linkTo(lender.address.port)
    ends.push(() => link.close())
    const states: boolean[] = []
    const file = await borrowed(addressOf(link.port), { onLink: (isThere) => states.push(isThere) })
    const whole = await bytesOf(device)
    for (let i = 0; i < 10; i++) {
      const reading = bytesOf(file)
      link.cut()
      expect(Buffer.compare(await reading, whole)).toBe(0)
    }
    expect(states.length).toBeGreaterThanOrEqual(10)
    expect(states.at(-1)).toBe(true)
  })

  it('that drops before a flush loses nothing, even where the other side does', async () => {
    // What was written and not flushed is gone with each connection, as with the power of a computer.
    const sure = await filled()
    const { lender } = await lent(new Forgetful(sure))
    const link = await linkTo(lender.address.port)
    ends.push(() => link.close())
    const file = await borrowed(addressOf(link.port))
    const wanted = await bytesOf(sure)
    for (let round = 0; round < 6; round++) {
      await file.write(round * MIB, pattern(MIB, 20 + round))
      await file.zero(round * MIB + 4096, 8192)
      wanted.set(pattern(MIB, 20 + round), round * MIB)
      wanted.fill(0, round * MIB + 4096, round * MIB + 12_288)
      link.cut()
      await vi.waitUntil(() => lender.borrowers.length === 0)
      ;(lender.lent.device as Forgetful).forget()
      if (round % 2 === 1) await file.flush()
    }
    await file.flush()
    ;(lender.lent.device as Forgetful).forget()
    expect(Buffer.compare(await bytesOf(sure), wanted)).toBe(0)
    expect(Buffer.compare(await bytesOf(file), wanted)).toBe(0)
  })

  it('that stays away ends what was asked in a sentence', async () => {
    const { lender } = await lent(await filled())
    const link = await linkTo(lender.address.port)
    ends.push(() => link.close())
    const file = await borrowed(addressOf(link.port), { patienceMs: 200 })
    link.setCut(true)
    await expect(file.read(0, new Uint8Array(512))).rejects.toThrow(/no longer connected/)
  })

  it('goes on with nothing else under the same name', async () => {
    const first = await lentHere(await filled())
    const link = await linkTo(first.lender.address.port)
    ends.push(() => link.close())
    const file = await borrowed(addressOf(link.port))
    const { port } = first.lender.address
    await first.lender.close()
    await lent(new MemoryDevice(SIZE / 2), { port })
    link.cut()
    await expect(file.read(0, new Uint8Array(512))).rejects.toThrow(/Something else is lent/)
  })

  it('that ends in the middle of what it writes holds no room for the others', async () => {
    const { address } = await lent(await filled())
    for (let i = 0; i < 12; i++) {
      const { wire } = await negotiate(address, { idleMs: 2000 })
      const header = new Uint8Array(REQUEST.size)
      const request = { magic: REQUEST_MAGIC, type: COMMAND.write, cookie: 1n, length: DEFAULT_MOST_BYTES }
      REQUEST.write(header, { ...request, flags: 0, offset: 0n })
      await wire.send(header, new Uint8Array(100))
      wire.fail(new ConnectionLost('a test'))
    }
    const file = await borrowed(address)
    expect(Buffer.compare(await bytesOf(file), await bytesOf(await filled()))).toBe(0)
  })

  it('that says nothing keeps no place', async () => {
    const { lender, address } = await lent(await filled(), { askMs: 100 })
    const silent = connect({ port: address.port, host: '127.0.0.1' })
    silent.on('error', () => {})
    await new Promise((closed) => silent.on('close', closed).resume())
    await vi.waitUntil(() => lender.borrowers.length === 0)
  })
})

/** A device that has what was written only once it is flushed. */
class Forgetful extends WrappedDevice {
  private written: { offset: number; bytes: Uint8Array }[] = []

  constructor(base: BlockDevice) {
    super(base)
    delete this.discard
    delete this.mapped
  }

  forget(): void {
    this.written = []
  }

  override async read(offset: number, into: Uint8Array): Promise<void> {
    await this.base.read(offset, into)
    for (const { offset: at, bytes } of this.written) {
      const from = Math.max(at, offset)
      const to = Math.min(at + bytes.length, offset + into.length)
      if (from < to) into.set(bytes.subarray(from - at, to - at), from - offset)
    }
  }

  override async write(offset: number, from: Uint8Array): Promise<void> {
    this.written.push({ offset, bytes: from.slice() })
  }

  override async flush(): Promise<void> {
    for (const { offset, bytes } of this.written.splice(0)) await this.base.write(offset, bytes)
  }
}

/** Extents that touch are one. */
function spread(extents: readonly { offset: number; length: number }[]) {
  const found: { offset: number; length: number }[] = []
  for (const { offset, length } of extents) {
    const last = found.at(-1)
    if (last && last.offset + last.length === offset) last.length += length
    else found.push({ offset, length })
  }
  return found
}
