import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { BadStructure } from '../errors'
import { readBootOrder, readLoadOption, writeLoadOption } from './load-option'

/** An entry as a firmware has it, written out by hand from the specification. */
const ENTRY = Buffer.from(
  [
    '01000000', // active
    '7000', // bytes of its device path
    '4c0069006e00750078000000', // "Linux"
    // hard drive, 42 bytes: partition 1, from sector 2048, 1 048 576 sectors
    '04012a00 01000000 0008000000000000 0000100000000000',
    '78563412 3412 7856 9abc def012345678 02 02',
    // file, 66 bytes
    `04044200 ${[...'\\EFI\\debian\\shimx64-signed.efi\0'].map((c) => c.charCodeAt(0).toString(16).padStart(2, '0') + '00').join('')}`,
    '7fff0400',
  ]
    .join('')
    .replaceAll(' ', ''),
  'hex',
)

describe('an entry of a firmware', () => {
  it('is read as the specification draws it, and written so', () => {
    const entry = {
      name: 'Linux',
      isActive: true,
      partition: {
        number: 1,
        guid: '12345678-1234-5678-9abc-def012345678',
        startLba: 2048n,
        sectors: 1_048_576n,
      },
      path: '\\EFI\\debian\\shimx64-signed.efi',
    }
    expect(readLoadOption(ENTRY)).toEqual(entry)
    expect(Buffer.from(writeLoadOption(entry)).equals(ENTRY)).toBe(true)
  })

  it('gives back what was written, whatever comes behind it', () => {
    const text = fc.string({ unit: fc.constantFrom('a', 'ö', '\\', ' ', '語'), maxLength: 40 })
    fc.assert(
      fc.property(
        fc.record({
          name: text,
          isActive: fc.boolean(),
          partition: fc.record({
            number: fc.integer({ min: 1, max: 128 }),
            guid: fc.uuid(),
            startLba: fc.bigInt(0n, 2n ** 60n),
            sectors: fc.bigInt(1n, 2n ** 60n),
          }),
          path: text,
        }),
        fc.uint8Array({ maxLength: 40 }),
        (entry, optional) => {
          const bytes = Buffer.concat([writeLoadOption(entry), optional])
          expect(readLoadOption(bytes)).toEqual(entry)
        },
      ),
    )
  })

  it('that is damaged is refused or read, and never breaks', () => {
    fc.assert(
      fc.property(
        fc.nat(ENTRY.length - 1),
        fc.integer({ min: 0, max: 255 }),
        fc.nat(ENTRY.length),
        (at, value, cut) => {
          const bytes = Buffer.from(ENTRY)
          bytes[at] = value
          try {
            readLoadOption(bytes.subarray(0, cut))
          } catch (error) {
            expect(error).toBeInstanceOf(BadStructure)
          }
        },
      ),
    )
  })

  it('stands in an order of numbers', () => {
    expect(readBootOrder(Buffer.from('030000000a10', 'hex'))).toEqual(['0003', '0000', '100A'])
  })
})
