import { type ComponentProps } from 'react'
import { describe, expect, it, vi } from 'vitest'
import { GIB } from '@/core/bytes/size'
import { USUAL_CHOICES } from '@/core/copy/choices'
import type { ReadyItem } from '@/core/ready/port'
import { type Shown, showStation } from '../testing'
import { ReadyStation } from './ready-station'

vi.mock('next/navigation', () => ({ useRouter: () => ({ push() {}, refresh() {} }) }))

type View = ComponentProps<typeof ReadyStation>['view']

const item = (id: string, changes: Partial<ReadyItem> = {}): ReadyItem => ({
  id,
  title: `Title of ${id}`,
  why: `Why of ${id}.`,
  state: 'settled',
  known: 'seen now',
  ...changes,
})
const cost = { copy: 600, check: 300 }

function target(): View['target'] {
  return {
    name: 'Corvina S5 960 GB',
    serial: 'CRV5-2207-4M1Q',
    place: 'USB dock A, bay 1',
    sizeBytes: 1,
    model: 'Corvina S5',
    fits: '2.5-inch SATA',
  }
}

function shown(changes: Partial<View> = {}): Shown {
  const items = [item('mains'), item('clean')]
  const view: View = {
    items,
    open: 0,
    whenDone: 'stay',
    source: {
      name: 'Corvina S3 240 GB',
      serial: 'CRV3-8841-07KD',
      place: 'ticket desk, SATA 0',
      sizeBytes: 1,
    },
    leg: { number: 1, of: 1 },
    target: target(),
    makesImage: false,
    into: null,
    written: target(),
    platePrefix: 'CRV5-2207-',
    seen: 'digest',
    how: {
      choices: USUAL_CHOICES,
      bytes: { used: 96 * GIB, volumes: 110 * GIB, every: 320 * GIB },
      seconds: { used: cost, volumes: cost, every: cost },
      volumes: [],
      live: false,
      failing: false,
      candidates: [],
    },
    further: [],
    system: { title: 'Harbour (C:)', volume: { usedBytes: 201.5 * GIB } },
    running: false,
    done: false,
    ...changes,
  }
  return showStation(<ReadyStation moveId="ticket-desk" view={view} />)
}

describe('the list of a move', () => {
  it.each([
    [0, 'It can start'],
    [1, 'One item left before it can start'],
    [3, 'Three items left before it can start'],
    [7, '7 items left before it can start'],
  ])('with %i open says so first', (open, finding) => {
    const items = Array.from({ length: 9 }, (_, i) => item(`i${i}`, i < open ? { state: 'open' } : {}))
    const { text, finding: said } = shown({ items, open })
    expect(said).toBe(finding)
    expect(text).toMatch(new RegExp(`${9 - open} of 9 are settled`))
  })

  it('shows each item with its reason, who knows it and how it is settled', () => {
    const open = item('not-running', {
      state: 'open',
      how: 'Shut it down.',
      action: { id: 'start-stick', label: 'Start it from the stick' },
    })
    const { text } = shown({ items: [open, item('mains')], open: 1 })
    expect(text).toMatch(/Title of not-running Why of not-running\..*seen now/)
    expect(text).toMatch(/Shut it down\. Start it from the stick/)
  })
})

describe('the plate check', () => {
  it('names the drive by its place and leaves the end of its serial open', () => {
    const { text, markup } = shown()
    expect(text).toMatch(/Read the label on the drive in the USB dock A, bay 1\. Everything on it will be erased/)
    expect(text).toMatch(/Corvina S5 960 GB · 2\.5-inch SATA s\/n CRV5-2207-/)
    // What is to be typed is nowhere on the page.
    expect(markup).not.toMatch(/4M1Q/)
    expect(shown({ written: { ...target(), place: 'on the table' } }).text).toMatch(/the drive on the table\./)
  })

  it('keeps the start shut until everything is settled and typed, and says what is missing', () => {
    const nothing = shown()
    expect(nothing.next).toBeUndefined()
    expect(nothing.text).toMatch(/Erase and copy 4 characters left/)
    const items = [item('mains', { state: 'open' })]
    expect(shown({ items, open: 1 }).text).toMatch(/1 item and 4 characters left/)
    const further = [{ ...target(), id: 'two', serial: 'x', platePrefix: 'TLN1-', name: 'Tellina T1 960 GB' }]
    expect(shown({ further }).text).toMatch(/And on the one in the USB dock A, bay 1: .*8 characters left/)
  })

  it('says what stays untouched', () => {
    expect(shown().text).toMatch(/Stays untouched Corvina S3 240 GB .* Harbour \(C:\), 201\.5 GiB used/)
  })
})

describe('a list whose copy has started', () => {
  it('offers nothing any more but to go there', () => {
    const running = shown({ running: true })
    expect([running.finding, running.next]).toEqual(['It was ready, and the copy is running', 'Go to Copy'])
    expect(running.text).not.toMatch(/Erase and copy|Plate check/)
    expect(shown({ done: true }).finding).toBe('It was ready, and the copy is done')
  })
})
