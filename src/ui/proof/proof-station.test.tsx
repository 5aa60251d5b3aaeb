import { type ComponentProps } from 'react'
import { describe, expect, it, vi } from 'vitest'
import { TRACE_LINKS, LINK_TITLES, type TraceLink } from '@/core/boot/types'
import { plate, type Shown, showStation } from '../testing'
import { ProofStation } from './proof-station'

vi.mock('next/navigation', () => ({ useRouter: () => ({ push() {}, refresh() {} }) }))

type View = ComponentProps<typeof ProofStation>['view']
type Trial = NonNullable<View['trial']>

/** A chain where links are what is said of them, and else passed up to the first that failed. */
function links(states: Partial<Record<string, TraceLink['state']>> = {}): TraceLink[] {
  let stopped = false
  return TRACE_LINKS.uefi.map((id): TraceLink => {
    const state = stopped ? 'not-reached' : (states[id] ?? 'passed')
    stopped ||= state === 'failed'
    return { id, title: LINK_TITLES[id], state, found: `found ${id}`, evidence: `evidence ${id}` }
  })
}

const trial = (changes: Partial<Trial> = {}): Trial => ({
  number: 1,
  time: '09:18',
  drive: 'Corvina S5 960 GB',
  subject: 'target',
  trace: { links: links(), starts: true },
  checks: [{ id: 'sizes', title: 'Sizes as planned', passed: true, found: '893.5 GiB' }],
  toldTime: null,
  ...changes,
})

const stopped = (link: string) => trial({ trace: { links: links({ [link]: 'failed' }), starts: false }, checks: [] })

const repair = (name: string, why: string | null = null) => ({ name, title: `Mend ${name}`, changes: ['One.'], why })

function shown(changes: Partial<View> = {}): Shown {
  const view: View = {
    alone: false,
    stays: false,
    mode: 'uefi',
    real: null,
    emulated: null,
    repaired: false,
    rearranged: false,
    offered: [],
    repairs: [],
    swapped: true,
    menu: [],
    after: null,
    closing: null,
    firstStart: null,
    machine: null,
    wayBack: null,
    computer: { id: 'ticket-desk', name: 'ticket desk', running: 'switched off', mains: true },
    inComputer: [{ slot: 'SATA 0', which: 'target' }],
    source: plate('Corvina S3 240 GB'),
    target: plate('Corvina S5 960 GB'),
    ...changes,
  }
  return showStation(<ProofStation moveId="ticket-desk" view={view} />)
}

describe('before a trial', () => {
  it('says what a start would do, with every link waiting', () => {
    const { finding, next, text } = shown()
    expect(finding).toBe('The ticket desk has not been started yet')
    expect(next).toBe('Start the ticket desk')
    expect(text.match(/waits for the ticket desk to be started/g)).toHaveLength(8)
    expect(shown({ mode: 'bios' }).text.match(/waits for/g)).toHaveLength(9)
  })

  it('says that the old drive is still in it', () => {
    const { text } = shown({ swapped: false, inComputer: [{ slot: 'SATA 0', which: 'source' }] })
    expect(text).toMatch(/The old drive is still in the ticket desk: a start now says nothing about the new one/)
  })
})

describe('a start that passed', () => {
  it('says that everything is there, and leads on', () => {
    const passed = shown({ trial: trial() })
    expect(passed.finding).toBe('It starts from the Corvina S5 960 GB, and everything is there')
    expect(passed.text).toMatch(/Every link passed, and 1 check after it/)
    expect(passed.next).toBe('Continue to Handover')
    expect(shown({ trial: trial(), closing: 'Shut it down once more' }).next).toBe('Close the case')
  })

  it('does not say so while anything is left open', () => {
    const lost = {
      id: 'lost',
      title: 'Lost',
      passed: true,
      found: '41 sectors',
      open: ['41 sectors could not be read.'],
    }
    const { finding, text, next } = shown({ trial: trial({ checks: [lost] }) })
    expect(finding).toBe('It starts from the Corvina S5 960 GB, with 1 thing left open')
    expect(text).toMatch(/41 sectors could not be read/)
    expect(text).not.toMatch(/everything is there/)
    expect(next).toBe('Continue to Handover')
  })

  it('claims no more than was followed', () => {
    const unproved = trial({ trace: { links: links({ driver: 'unproved', 'sign-in': 'unproved' }), starts: true } })
    const { finding, text, next } = shown({ trial: unproved })
    expect(finding).toBe('It starts from the Corvina S5 960 GB, as far as it can be followed')
    expect(text).toMatch(/6 of 8 links passed/)
    expect(text).not.toMatch(/everything is there/)
    expect(next).toBe('Continue to Handover')
  })

  it('is no proof of the new drive when it was from the old one', () => {
    const { finding, next } = shown({ trial: trial({ subject: 'source', drive: 'Corvina S3 240 GB', checks: [] }) })
    expect(finding).toBe('It starts, from the old drive')
    expect(next).not.toBe('Continue to Handover')
  })

  it('does not lead on while a check has failed, or while something changed after it', () => {
    const one = { id: 'samples', title: 'Sample files are equal', passed: false, found: 'C: /a.txt' }
    const failed = shown({ trial: trial({ checks: [one] }) })
    expect(failed.finding).toBe('It starts, but one check failed')
    expect(shown({ trial: trial({ checks: [one, one] }) }).finding).toBe('It starts, but 2 checks failed')
    const repaired = shown({
      trial: trial(),
      repaired: true,
      repairs: [{ id: 'r', time: '09:20', title: 'Take it up', changes: [], undone: false }],
    })
    expect(repaired.finding).toBe('It has changed since it started; the next start will tell')
    expect(repaired.text).toMatch(/Take it up: that came after it/)
    const rearranged = shown({ trial: trial(), rearranged: true })
    expect(rearranged.finding).toBe('Other drives are in it now; the next start will tell')
    for (const { next } of [failed, repaired, rearranged]) expect(next).not.toBe('Continue to Handover')
  })
})

describe('a start that stops', () => {
  it.each(TRACE_LINKS.uefi)('at the link %s names it, with its evidence', (link) => {
    const { finding, text } = shown({ trial: stopped(link) })
    expect(finding).toBe(`It stops at the ${LINK_TITLES[link].toLowerCase()}`)
    expect(text).toContain(`evidence ${link}`)
  })

  it('offers the first repair that can be made as the next action, and says why others cannot', () => {
    const offered = [repair('bring-driver', 'No driver folder is at hand.'), repair('start-driver')]
    const { next, text } = shown({ trial: stopped('driver'), offered })
    expect(next).toBe('Mend start-driver')
    expect(text).toMatch(/Mend bring-driver .*No driver folder is at hand/)
  })

  it('never offers an identity of its own as the next action', () => {
    const { next } = shown({ trial: stopped('firmware'), offered: [repair('disk-identity')] })
    expect(next).not.toMatch(/disk-identity/)
  })

  it('says after a repair that only the next start will tell', () => {
    const made = shown({ trial: stopped('settings'), repaired: true })
    expect(made.finding).toBe('Repaired; the next start will tell')
    expect(made.next).toBe('Try again from power-on')
  })

  it('shows the way back with what is done of it', () => {
    const steps = [
      { title: 'Take the new one out', done: true },
      { title: 'Put the old one back', done: false },
    ]
    const { text } = shown({ trial: stopped('loader'), wayBack: { steps } })
    expect(text).toMatch(/The way back .*Take the new one out 2 Put the old one back Done/)
    expect(shown({ trial: trial(), wayBack: { steps } }).text).not.toMatch(/The way back/)
  })
})

describe('after a start that passed', () => {
  const after = (off: { id: string; title: string; detail: string }[]) => ({
    speeds: [],
    off,
    turnedOff: off.length,
    tidying: [],
    room: undefined,
  })
  const network = { id: 'ticket-desk/network', title: 'Network', detail: 'off on the ticket desk' }

  it('turns on first what Ready turned off, and only then goes on', () => {
    expect(shown({ trial: trial(), after: after([network]), closing: 'Shut it down' }).next).toBe(
      'Turn on again: Network',
    )
    expect(shown({ trial: trial(), after: after([network, { ...network, id: 'x' }]) }).next).toBe(
      'Turn everything on again',
    )
    expect(shown({ trial: trial(), after: after([]), closing: 'Shut it down' }).next).toBe('Close the case')
  })

  it('is closed without the new drive where the old one starts again after a trial', () => {
    const back = trial({ number: 2, subject: 'source', drive: 'Corvina S3 240 GB', checks: [] })
    expect(shown({ trial: back }).text).toMatch(/Close the move without the new drive/)
    expect(shown({ trial: { ...back, number: 1 } }).text).not.toMatch(/Close the move without/)
  })
})
