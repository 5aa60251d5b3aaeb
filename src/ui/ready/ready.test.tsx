import { renderToStaticMarkup } from 'react-dom/server'
import { describe, expect, it } from 'vitest'
import { GIB } from '@/core/bytes/size'
import { USUAL_CHOICES } from '@/core/copy/choices'
import type { ReadyItem } from '@/core/ready/port'
import { HowItCopies, type HowView } from './how-it-copies'
import { Items } from './items'
import { textOf } from '../testing'

const how: HowView = {
  choices: USUAL_CHOICES,
  bytes: { used: 96 * GIB, volumes: 110 * GIB, every: 320 * GIB },
  seconds: {
    used: { copy: 600, check: 300 },
    volumes: { copy: 690, check: 330 },
    every: { copy: 2000, check: 1000 },
  },
  volumes: [{ number: 3, title: 'Shows', usedBytes: 10 * GIB, everyBytes: 24 * GIB }],
  live: false,
  failing: false,
  candidates: [],
}

const shown = (changes: Partial<HowView>) =>
  textOf(renderToStaticMarkup(<HowItCopies how={{ ...how, ...changes }} busy={false} onChoose={() => {}} />))

describe('how it copies', () => {
  it('tells what each choice costs, with reading back and without', () => {
    expect(shown({})).toMatch(/about 15 min in all.*used blocks only, 96.*every sector, 320.*compare, 5 min more/)
    expect(shown({ choices: { ...USUAL_CHOICES, verify: false } })).toMatch(/about 10 min in all/)
    expect(shown({ choices: { ...USUAL_CHOICES, read: 'every' } })).toMatch(/about 50 min in all.*compare, 17 min more/)
  })

  it('takes every sector of some volumes, and tells what that comes to', () => {
    expect(shown({})).not.toMatch(/Shows/)
    const chosen = { ...USUAL_CHOICES, everyOf: [3] }
    expect(shown({ choices: chosen })).toMatch(/about 17 min in all.*110.0 GiB.*Shows, 24.0 GiB instead of 10.0 GiB/)
  })

  it('asks only what matters to this copy', () => {
    for (const [changes, words] of [
      [{ live: true }, /a snapshot of up to 2 GiB/],
      [{ failing: true }, /Around unreadable sectors/],
      [{ candidates: [{ id: 'x', name: 'Tellina T1 960 GB', serial: 'TLN1-1' }] }, /Also written in the same reading/],
    ] as const) {
      expect(shown(changes)).toMatch(words)
      expect(shown({})).not.toMatch(words)
    }
  })
})

describe('the list', () => {
  const render = (item: Partial<ReadyItem>) => {
    const whole: ReadyItem = { id: 'x', title: 'T.', why: 'w', state: 'blocks', known: 'seen now', ...item }
    return textOf(renderToStaticMarkup(<Items items={[whole]} busy={false} onAction={() => {}} onGoPast={() => {}} />))
  }

  it('offers to go past only what can be, and shows the reason of what was', () => {
    expect(render({})).toMatch(/blocks/)
    expect(render({})).not.toMatch(/Skip it/)
    expect(render({ overridable: 'It costs.' })).toMatch(/Skip it, with a reason/)
    const past = render({ state: 'settled', overridable: 'It costs.', overridden: 'The owner wants it so' })
    expect(past).toMatch(/Skipped: The owner wants it so/)
    expect(past).not.toMatch(/with a reason/)
  })
})
