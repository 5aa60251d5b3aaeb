import { type ComponentProps } from 'react'
import { describe, expect, it, vi } from 'vitest'
import type { SwapStep } from '@/core/swap/types'
import { type Shown, showStation } from '../testing'
import { SwapStation } from './swap-station'

vi.mock('next/navigation', () => ({ useRouter: () => ({ push() {}, refresh() {} }) }))

type View = ComponentProps<typeof SwapStation>['view']

const step = (id: string, changes: Partial<SwapStep> = {}): SwapStep => ({
  id,
  title: `Do ${id}`,
  short: id,
  how: `How ${id} goes.`,
  place: 'drive',
  computerId: 'desk',
  ...changes,
})
const screws = (way: 'out' | 'in', count: number) => ({
  way,
  groups: [{ count, kind: 'M3', lengthMm: 5, where: 'two on each side', hidden: '' }],
})
const drive = (role: string, here: boolean) => ({
  id: role,
  name: role,
  serial: role,
  place: here ? 'ticket desk, SATA 0' : 'on the shelf',
  sizeBytes: 1,
  here,
  role,
})
const STEPS = [
  step('off', { place: 'power' }),
  step('out', { screws: screws('out', 4) }),
  step('in', { screws: screws('in', 1) }),
  step('cover', { place: 'cover', afterStart: true }),
]

function shown(changes: Partial<View> = {}): Shown {
  const view: View = {
    steps: STEPS,
    done: 0,
    canUntick: false,
    ticks: {},
    tray: [],
    started: false,
    beforeLeg: null,
    computer: {
      name: 'ticket desk',
      slots: [{ id: 'SATA 0', holds: 'Corvina S3 240 GB' }],
      mains: false,
      kind: 'desktop',
      cover: { name: 'side panel', groups: [], screws: 0, how: '' } as never,
      driveMount: { groups: [], screws: 0, how: '' } as never,
    },
    tools: ['Phillips 2'],
    drives: [drive('Old drive', false), drive('New drive', true)],
    apart: false,
    target: 'Corvina S5 960 GB',
    ...changes,
  }
  return showStation(<SwapStation moveId="ticket-desk" view={view} />)
}

describe('one step of a swap', () => {
  it('is the finding, with how it goes and how many there are', () => {
    const { finding, next, text } = shown()
    expect(finding).toBe('Do off')
    expect(next).toBe('Done, next')
    expect(text).toMatch(/How off goes\./)
    // What waits for the start does not count among them.
    expect(text).toMatch(/Step 1 of 3/)
    expect(text).toMatch(/Once it has started from the new drive/)
  })

  it('asks for all of its screws, one or many', () => {
    expect(shown({ done: 1 }).next).toBe('All 4 out, next')
    expect(shown({ done: 2 }).next).toBe('It is in, next')
    const some = shown({ done: 1, ticks: { out: [3] }, tray: [{ words: 'M3 × 5 mm', count: 3 }] })
    expect(some.next).toBeUndefined()
    expect(some.text).toMatch(/3 of 4 screws out/)
    expect(some.text).toMatch(/On the tray M3 × 5 mm 3/)
    expect(shown({ done: 1, ticks: { out: [4] } }).next).toBe('Done, next')
  })

  it('always says that a drive and its copy are never in a computer together', () => {
    for (const done of [0, 3, 4])
      expect(shown({ done }).text).toMatch(/They must not be in a computer together at a start/)
  })

  it('offers the label of an old drive that is out', () => {
    expect(shown().markup).toMatch(/href="\/labels\/Old drive"/)
    expect(shown({ drives: [drive('Old drive', true)] }).markup).not.toMatch(/\/labels\//)
  })
})

describe('a swap whose steps are done', () => {
  it('leads to Proof, with the case open until it has started', () => {
    const { finding, next, text } = shown({ done: 3 })
    expect(finding).toBe('The Corvina S5 960 GB is in the ticket desk')
    expect(text).toMatch(/is on the shelf\. Nothing has been started yet.* The case is closed after it/)
    expect(next).toBe('Continue to Proof')
  })

  it('asks for the case once it has started, and leads to Handover then', () => {
    const closing = shown({ done: 3, started: true })
    expect([closing.finding, closing.next]).toEqual(['Do cover', 'Done, next'])
    expect(closing.text).toMatch(/Closing, 1 of 1/)
    const whole = shown({ done: 4, started: true })
    expect([whole.finding, whole.next]).toEqual(['The ticket desk is whole again', 'Continue to Handover'])
  })

  it('leads to Ready where a copy comes next', () => {
    const before = shown({ steps: [], beforeLeg: { number: 2, of: 2 } })
    expect([before.finding, before.next]).toEqual(['Nothing has to change places', 'Continue to Ready'])
    expect(before.text).toMatch(/Leg 2 of 2 comes next/)
  })
})
