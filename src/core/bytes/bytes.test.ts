import fc from 'fast-check'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { BadStructure } from '../errors'
import { fromBase64, toBase64 } from './base64'
import { crc32, crcText } from './crc32'
import { guidToBytes, guidToString } from './guid'
import { sameBytes } from './same'
import { formatCapacity, formatDuration, formatSize, GIB, groupDigits, MIB, parseSize, TIB } from './size'
import { defineStruct, fieldsOf } from './struct'

describe('base64', () => {
  it('is what others make of the same bytes, and read back the same', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 40 }), fc.constantFrom(0, 8191, 8192, 20_000), (bytes, before) => {
        const all = new Uint8Array(before + bytes.length)
        all.set(bytes, before)
        const text = toBase64(all)
        expect(text).toBe(Buffer.from(all).toString('base64'))
        expect(sameBytes(fromBase64(text), all)).toBe(true)
      }),
    )
    expect(() => fromBase64('no base64!')).toThrow()
  })
})

describe('sizes', () => {
  it('are said in the unit that fits, whole below GiB where they are whole', () => {
    expect([239_252_537_344, 650 * MIB, 4096, 512, 2 * TIB, 1.5 * MIB].map(formatSize)).toEqual([
      '222.8 GiB',
      '650 MiB',
      '4 KiB',
      '512 bytes',
      '2 TiB',
      '1.5 MiB',
    ])
    expect(formatSize(1024 * MIB - 1)).toBe('1.0 GiB')
    expect(formatCapacity(240_057_409_536)).toBe('240 GB')
    expect(formatCapacity(2_000_398_934_016)).toBe('2 TB')
    expect(groupDigits(1_874_053_119)).toBe('1\u00a0874\u00a0053\u00a0119')
    expect([45, 120, 555, 1110, 4000].map(formatDuration)).toEqual([
      '45 s',
      '2 min',
      '9 min 15 s',
      '19 min',
      '1 h 07 min',
    ])
  })

  it('are taken as people type them', () => {
    const now = 100 * GIB
    expect(parseSize('350 GiB', now)).toBe(350 * GIB)
    expect(parseSize('1.5 TB', now)).toBe(1.5e12)
    expect(parseSize('350', now)).toBe(350 * GIB)
    expect(parseSize('+20 %', now)).toBe(120 * GIB)
    expect(parseSize('+10 GiB', now)).toBe(110 * GIB)
    for (const wrong of ['', 'much', '12 apples', '20 %', '-5 GiB', '1e9', '0'])
      expect(parseSize(wrong, now)).toBeUndefined()
  })

  it('never come out as anything but a positive whole number', () => {
    fc.assert(
      fc.property(fc.string(), (text) => {
        const bytes = parseSize(text, GIB)
        expect(bytes === undefined || (bytes > 0 && Number.isFinite(bytes))).toBe(true)
      }),
    )
  })
})

describe('structures', () => {
  it.each(['little', 'big'] as const)('read what they wrote, field by field, %s-endian', (order) => {
    const struct = defineStruct(
      'test',
      64,
      {
        a: [0, 'u8'],
        b: [1, 'u16'],
        c: [4, 'u32'],
        d: [8, 'u64'],
        e: [16, 'guid'],
        f: [32, ['utf16', 8]],
        g: [48, ['ascii', 4]],
        h: [52, 'i8'],
        i: [56, 'bits64'],
      },
      order,
    )
    const guid = fc.uint8Array({ minLength: 16, maxLength: 16 }).map(guidToString)
    const value = fc.record({
      a: fc.nat({ max: 255 }),
      b: fc.nat({ max: 65535 }),
      c: fc.nat({ max: 0xffffffff }),
      d: fc.nat({ max: Number.MAX_SAFE_INTEGER }),
      e: guid,
      f: fc.string({ unit: fc.constantFrom('a', 'Ω', 'z'), maxLength: 8 }),
      g: fc.string({ unit: fc.constantFrom('A', '$'), minLength: 4, maxLength: 4 }),
      h: fc.integer({ min: -128, max: 127 }),
      i: fc.bigInt({ min: 0n, max: 2n ** 64n - 1n }),
    })
    fc.assert(
      fc.property(value, (values) => {
        const bytes = new Uint8Array(80)
        // Also where the bytes are a part of others, and the structure is a part of the bytes.
        struct.write(bytes, values, 11)
        expect(struct.read(bytes.subarray(3), 8)).toEqual(values)
        const { b, d, i } = values
        expect(fieldsOf(struct, 'b', 'd', 'i').read(bytes, 11)).toEqual({ b, d, i })
      }),
    )
  })

  it('refuse bytes that are too few and numbers no drive can have', () => {
    const struct = defineStruct('test', 8, { a: [0, 'u64'] })
    expect(() => struct.read(new Uint8Array(7))).toThrow(BadStructure)
    expect(() => struct.read(new Uint8Array(8).fill(0xff))).toThrow(BadStructure)
  })
})

describe('identities and checksums', () => {
  it('turn GUIDs into stored order and back', () => {
    expect([...guidToBytes('c12a7328-f81f-11d2-ba4b-00a0c93ec93b').slice(0, 8)]).toEqual([
      0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11,
    ])
    expect(() => guidToBytes('c12a7328')).toThrow(RangeError)
  })

  it('compute the CRC of the specification', () => {
    expect(crc32(new TextEncoder().encode('123456789'))).toBe(0xcbf43926)
    expect(crcText(0xcbf43926)).toBe('CBF4 3926')
  })
})

describe('stretches of bytes', () => {
  afterEach(() => {
    vi.unstubAllGlobals()
    vi.resetModules()
  })

  it.each(['as the platform compares', 'where the platform compares nothing'])(
    'are the same or not, %s',
    async (how) => {
      if (how.startsWith('where')) vi.stubGlobal('Buffer', undefined)
      vi.resetModules()
      const { allBytesAre, sameBytes } = await import('./same')
      const lengths = fc.constantFrom(0, 1, 2, 63, 64, 65, 66, 4095, 4096, 4097, 70_000)
      fc.assert(
        fc.property(lengths, fc.nat(3), fc.constantFrom(0, 0xff, 7), fc.nat(), (length, shift, value, place) => {
          // In memory that threads share, and from any place of it.
          const [a, b] = [0, 1].map((n) =>
            new Uint8Array(new SharedArrayBuffer(length + 8), n * shift, length).fill(value),
          )
          expect([sameBytes(a, b), allBytesAre(a, value), allBytesAre(a, value ^ 1)]).toEqual([
            true,
            true,
            length === 0,
          ])
          if (length === 0) return
          a[place % length] ^= 0x80
          expect([sameBytes(a, b), sameBytes(b, a), allBytesAre(a, value)]).toEqual([false, false, false])
          expect(sameBytes(a, b.subarray(1))).toBe(false)
        }),
      )
    },
  )
})
