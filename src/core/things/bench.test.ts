import { describe, expect, it } from 'vitest'
import { type BenchState, berthOf, freeBrackets, placeName, slotsThatTake, whyNotThere, whySeenOnly } from './bench'
import { driveName, type KernelState } from './drive'
import { benchOf, computer, dock, drive } from './testing'

const slot = (name = 'SATA 0') => ({ kind: 'slot', computerId: 'desk', slot: name }) as const
const bay = (name: string) => ({ kind: 'bay', accessoryId: 'dock', bay: name }) as const

function bench(mains: boolean): BenchState {
  return benchOf(
    [computer('desk', { mains })],
    [dock('dock'), { id: 'b', name: 'bracket', detail: '', kind: 'bracket', count: 1 }],
    [drive('old', { place: slot() }), drive('new', { place: bay('bay 1') }), drive('loose')],
  )
}

const on = (state: BenchState, id: string) => state.drives.find((d) => d.id === id)!

describe('places', () => {
  it('are said as people say them, with the link they give', () => {
    const state = bench(true)
    expect(berthOf(on(state, 'old'), state)).toEqual({ name: 'desk, SATA 0', link: 'sata-6', inComputer: true })
    expect(berthOf(on(state, 'new'), state)).toEqual({ name: 'dock, bay 1', link: 'usb-5', inComputer: false })
    expect(berthOf(on(state, 'loose'), state)).toEqual({ name: 'on the table', link: undefined, inComputer: false })
    expect(placeName({ kind: 'shelf' }, state)).toBe('on the shelf')
    expect(driveName(on(state, 'new'))).toBe('Model new 240 GB')
  })

  it.each([
    ['where another is', bay('bay 1'), true, /is there already/],
    ['that does not exist', bay('bay 9'), true, /no such place/],
    ['in a computer under power', slot('SATA 0'), true, /is there already/],
  ] as const)('take no drive %s', (_what, place, mains, reason) => {
    const state = bench(mains)
    expect(whyNotThere(on(state, 'loose'), place, state)).toMatch(reason)
  })

  it('of the computer that Imbarco runs on are seen, whatever a hand says', () => {
    const kernel: KernelState = {
      key: 'k',
      path: '/dev/sda',
      device: null,
      serialOf: 'drive',
      uses: [],
      hasTwin: false,
      forgets: false,
    }
    const away = { ...kernel, path: null }
    const state = benchOf(
      [computer('desk', { isThis: true, mains: false }), computer('other', { mains: false })],
      [],
      [
        drive('in', { kernel, place: slot() }),
        drive('out', { kernel: away }),
        drive('image', { file: null, image: 'a.img' }),
      ],
    )
    const why = (id: string, computerId: string) => whySeenOnly(on(state, id), { ...slot(), computerId }, state)
    expect(why('in', 'desk')).toBeUndefined()
    expect(why('in', 'other')).toMatch(/plugged in here/)
    expect([why('out', 'desk'), why('image', 'desk')]).toEqual([
      expect.stringMatching(/is not plugged in/),
      expect.stringMatching(/is seen/),
    ])
    expect([why('out', 'other'), why('image', 'other')]).toEqual([undefined, undefined])
  })

  it('let nothing in or out of a computer that has mains power', () => {
    const powered = bench(true)
    const off = bench(false)
    expect(whyNotThere(on(powered, 'old'), { kind: 'table' }, powered)).toMatch(/before a drive is taken out/)
    expect(whyNotThere(on(off, 'old'), { kind: 'table' }, off)).toBeUndefined()
    const empty = { ...powered, drives: powered.drives.filter((d) => d.id !== 'old') }
    expect(whyNotThere(on(empty, 'loose'), slot(), empty)).toMatch(/before a drive is put in/)
  })

  it('that take a drive are free slots of its kind, whether or not there is power on them now', () => {
    const taking = (state: BenchState) => slotsThatTake(on(state, 'loose'), state)
    const full = bench(true)
    expect(taking(full)).toEqual([])
    const emptied = { ...full, drives: full.drives.filter((d) => d.id !== 'old') }
    expect(taking(emptied)).toEqual([{ key: expect.any(String), name: 'desk, SATA 0', place: slot() }])
  })

  it('count the brackets that are in use', () => {
    const large = {
      id: 'cage',
      takes: [{ form: '3.5-inch' as const }],
      speaks: bench(true).computers[0].slots[0].speaks,
    }
    const state: BenchState = { ...bench(false), computers: [computer('desk', { mains: false, slots: [large] })] }
    const held = { ...state, drives: state.drives.map((d) => (d.id === 'old' ? { ...d, place: slot('cage') } : d)) }
    expect([freeBrackets(state), freeBrackets(held), freeBrackets(held, 'old')]).toEqual([1, 0, 1])
  })
})
