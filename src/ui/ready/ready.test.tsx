import { renderToStaticMarkup } from 'react-dom/server'
import { describe, expect, it } from 'vitest'
import { GIB } from '@/core/bytes/size'
import { USUAL_CHOICES } from '@/core/copy/choices'
import type { ReadyItem } from '@/core/ready/port'
import { HowItCopies, type HowView } from './how-it-copies'
import { Items } from './items'

const textOf = (markup: string) => markup.replace(/<[^>]+>/g, ' ').replace(/\s+/g, ' ')

const how: HowView = {
  choices: USUAL_CHOICES,
  usedBytes: 96 * GIB,
  everyBytes: 320 * GIB,
  copySeconds: { used: 600, every: 2000 },
  checkSeconds: { used: 300, every: 1000 },
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

  it('asks only what matters to this copy', () => {
    for (const [changes, words] of [
      [{ live: true }, /a snapshot of up to 2 GiB/],
      [{ failing: true }, /Around what does not read/],
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
    expect(render({})).not.toMatch(/Go past it/)
    expect(render({ overridable: 'It costs.' })).toMatch(/Go past it, with a reason/)
    const past = render({ state: 'settled', overridable: 'It costs.', overridden: 'The owner wants it so' })
    expect(past).toMatch(/Gone past: The owner wants it so/)
    expect(past).not.toMatch(/with a reason/)
  })
})
