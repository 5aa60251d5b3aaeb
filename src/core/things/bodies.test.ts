import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { bodyWords, type Fitted, fittedWords, linkIn, needsBracket, type Slot, slotWords, whyNotInto } from './bodies'
import { bodyFields, bodyOf, slotFields, slotOf } from './fields'
import { slower } from './links'
import { anyBody, anySlot } from './testing'

const nvme: Fitted = { body: { form: 'M.2', size: '2280', key: 'M' }, protocol: 'PCIe' }
const small: Fitted = { body: { form: '2.5-inch' }, protocol: 'SATA' }
const large: Fitted = { body: { form: '3.5-inch' }, protocol: 'SATA' }
const blade: Fitted = { body: { form: 'blade', family: 'Studio' }, protocol: 'PCIe' }

const m2 = (protocol: 'SATA' | 'PCIe', key: 'B' | 'M' = 'M'): Slot => ({
  id: 'M.2',
  takes: [{ form: 'M.2', sizes: ['2242', '2280'], key }],
  speaks: [{ protocol, link: protocol === 'SATA' ? 'sata-6' : 'pcie-3x4' }],
})
const bay = (form: '2.5-inch' | '3.5-inch'): Slot => ({
  id: 'bay',
  takes: [{ form }],
  speaks: [{ protocol: 'SATA', link: 'usb-5' }],
})

describe('what goes in where', () => {
  it.each<[string, Fitted, Slot, number]>([
    ['an NVMe module', nvme, m2('PCIe'), 0],
    ['a module cut for both keys', { ...nvme, body: { form: 'M.2', size: '2242', key: 'B+M' } }, m2('PCIe', 'B'), 0],
    ['a small drive', small, bay('2.5-inch'), 0],
    ['a small drive by a bracket', small, bay('3.5-inch'), 1],
  ])('takes %s', (_what, drive, slot, brackets) => {
    expect(whyNotInto(drive, slot, brackets)).toBeUndefined()
    expect(linkIn(drive, slot)).toBe(slot.speaks[0].link)
  })

  it.each<[string, Fitted, Slot, number, string, RegExp]>([
    ['NVMe in a SATA slot', nvme, m2('SATA'), 0, 'protocol', /^This M\.2 slot is SATA only, the drive is PCIe only\.$/],
    ['a wrong key', nvme, m2('PCIe', 'B'), 0, 'key', /key is B, the drive is cut for M/],
    [
      'a module too long',
      { ...nvme, body: { form: 'M.2', size: '22110', key: 'M' } },
      m2('PCIe'),
      0,
      'size',
      /too long/,
    ],
    [
      'a module too short',
      { ...nvme, body: { form: 'M.2', size: '2230', key: 'M' } },
      m2('PCIe'),
      0,
      'size',
      /is 2230\.$/,
    ],
    ['a module in a bay', nvme, bay('2.5-inch'), 0, 'form', /takes 2\.5-inch SATA, the drive is M\.2 2280, M key/],
    ['a large drive in a small bay', large, bay('2.5-inch'), 9, 'form', /the drive is 3\.5-inch/],
    ['a small drive without bracket', small, bay('3.5-inch'), 0, 'bracket', /A 3\.5-inch bay needs the bracket/],
    ['a blade in a module slot', blade, m2('PCIe'), 0, 'form', /the drive is Studio blade/],
    [
      'a blade of another family',
      blade,
      { id: 'b', takes: [{ form: 'blade', family: 'Atelier' }], speaks: [{ protocol: 'PCIe', link: 'pcie-3x4' }] },
      0,
      'family',
      /takes Atelier blades/,
    ],
  ])('refuses %s and says why', (_what, drive, slot, brackets, rule, sentence) => {
    const misfit = whyNotInto(drive, slot, brackets)
    expect(misfit?.rule).toBe(rule)
    expect(misfit?.sentence).toMatch(sentence)
  })

  it('never says that a drive goes in where it has no link', () => {
    fc.assert(
      fc.property(anyBody, fc.constantFrom('SATA' as const, 'PCIe' as const), anySlot, (body, protocol, slot) => {
        if (whyNotInto({ body, protocol }, slot, 1) === undefined)
          expect(linkIn({ body, protocol }, slot)).toBeDefined()
      }),
    )
  })

  it('needs a bracket exactly where one is what is missing', () => {
    fc.assert(
      fc.property(anyBody, fc.constantFrom('SATA' as const, 'PCIe' as const), anySlot, (body, protocol, slot) => {
        const missing = whyNotInto({ body, protocol }, slot, 0)?.rule === 'bracket'
        expect(needsBracket(body, slot)).toBe(missing)
      }),
    )
  })
})

describe('words', () => {
  it('name forms as the trade does', () => {
    expect([bodyWords(nvme.body), fittedWords(small), fittedWords(nvme)]).toEqual([
      'M.2 2280, M key',
      '2.5-inch SATA',
      'M.2 2280, M key, PCIe',
    ])
    expect(slotWords(m2('PCIe'))).toBe('M.2 2242 to 2280, M key, PCIe')
    const both: Slot = { ...bay('2.5-inch'), takes: [{ form: '2.5-inch' }, { form: '3.5-inch' }] }
    expect(slotWords(both)).toBe('2.5-inch or 3.5-inch SATA')
  })
})

describe('the fields of a form', () => {
  it('give back the body they were made from', () => {
    fc.assert(
      fc.property(anyBody, (body) => {
        expect(bodyOf(bodyFields(body))).toStrictEqual({ ...body })
      }),
    )
  })

  it('give back a slot that takes what the first one took', () => {
    fc.assert(
      fc.property(anySlot, anyBody, fc.constantFrom('SATA' as const, 'PCIe' as const), (slot, body, protocol) => {
        const again = slotOf(slotFields(slot))
        expect(whyNotInto({ body, protocol }, again, 0)?.rule).toBe(whyNotInto({ body, protocol }, slot, 0)?.rule)
        expect(linkIn({ body, protocol }, again)).toBe(linkIn({ body, protocol }, slot))
      }),
    )
  })
})

describe('two links', () => {
  it('are as fast as the slower one', () => {
    expect([slower('usb-5', 'sata-6'), slower('sata-6', 'usb-2'), slower('pcie-3x4', 'pcie-3x4')]).toEqual([
      'usb-5',
      'usb-2',
      'pcie-3x4',
    ])
  })
})
