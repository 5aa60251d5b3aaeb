import { describe, expect, it } from 'vitest'
import { courseOf } from './course'
import { openingsOf as casesOpened } from './measure'
import { beforePlay, play, whyItFails } from './play'
import { findPlans } from './search'
import { smallQuestion, type SmallBench } from './testing'
import { type Action, leftOutside, legsOf, plugsIn } from './types'

const BENCH: SmallBench = {
  slots: 'one',
  dock: true,
  cable: false,
  stick: 'signed',
  host: false,
  transfer: false,
  startsFromUsb: true,
  newInDock: true,
  running: 'system',
}

const question = smallQuestion(BENCH)
const before = beforePlay(question.bench, question.pairs)
const plan = findPlans(question).find((p) => p.title === 'New drive outside, swap after')!
const slot = { kind: 'slot', computerId: 'desk', slot: 'S0' } as const
const bay = { kind: 'bay', accessoryId: 'dock', bay: 'bay 1' } as const
const copy = plan.actions.find((a) => a.do === 'transfer')!

describe('a plan that is played', () => {
  it.each<[string, Action[], RegExp]>([
    ['taking a drive out of a computer that has power', [{ do: 'take', driveId: 'old', from: slot }], /mains power/],
    [
      'taking a drive from where it is not',
      [{ do: 'take', driveId: 'new', from: slot }],
      /not where the plan takes it from/,
    ],
    ['putting a drive in that still sits elsewhere', [{ do: 'put', driveId: 'new', into: slot }], /still sits/],
    [
      'putting a drive where another is',
      [
        { do: 'off', computerId: 'desk' },
        { do: 'take', driveId: 'new', from: bay },
        { do: 'put', driveId: 'new', into: slot },
      ],
      /is there already/,
    ],
    ['starting what runs', [{ do: 'start', computerId: 'desk', from: 'stick' }], /runs already/],
    ['copying while the system runs', [copy], /has to run from the rescue stick/],
    [
      'starting from a drive that holds nothing',
      [
        { do: 'off', computerId: 'desk' },
        { do: 'start', computerId: 'desk', from: 'target' },
      ],
      /no drive with its system/,
    ],
    ['a computer that is gone', [{ do: 'off', computerId: 'none' }], /no longer on the bench/],
    ['a drive that is gone', [{ do: 'take', driveId: 'none', from: bay }], /no longer on the bench/],
    ['a virtual machine without its disks', [{ do: 'start-virtual', hostId: 'host' }], /not all of its disks/],
    [
      'writing to a source',
      [
        { do: 'off', computerId: 'desk' },
        { do: 'start', computerId: 'desk', from: 'stick' },
        { ...copy, from: copy.from, to: copy.from } as Action,
      ],
      /source is never written to/,
    ],
  ])('stops at %s', (_what, actions, sentence) => {
    expect(play(actions, before, question.pairs).stop?.sentence).toMatch(sentence)
  })

  it('stops before a start with two drives of one identity', () => {
    const twins: Action[] = [
      ...plan.actions.slice(0, plan.actions.indexOf(copy) + 1),
      { do: 'off', computerId: 'desk' },
      { do: 'start', computerId: 'desk', from: 'stick' },
      copy,
    ]
    expect(play(twins, before, question.pairs).stop?.sentence).toMatch(/carry one identity/)
  })

  it('says what fails from some action on', () => {
    expect(whyItFails(plan, 0, before, question.pairs)).toBeUndefined()
    const gone = { ...question.bench, drives: question.bench.drives.filter((d) => d.id !== 'new') }
    expect(whyItFails(plan, 0, beforePlay(gone, question.pairs), question.pairs)).toMatch(/no longer on the bench/)
    const pulled = {
      ...question.bench,
      drives: question.bench.drives.map((d) => (d.id === 'new' ? { ...d, place: { kind: 'table' as const } } : d)),
    }
    expect(whyItFails(plan, 0, beforePlay(pulled, question.pairs), question.pairs)).toMatch(
      /is on the table, and the plan reads and writes it in dock, bay 1/,
    )
  })
})

describe('a plan', () => {
  it('falls into legs with what hands do before each, and after the last', () => {
    const { legs, after } = legsOf(plan)
    expect(legs.map((l) => l.before.map((a) => a.do))).toEqual([['off', 'start']])
    expect(after.map((a) => a.do)).toEqual(['off', 'take', 'take', 'put', 'start'])
    expect(casesOpened(plan.actions)).toBe(1)
  })

  it('tells which old drives it leaves in a dock that is plugged in', () => {
    const first = findPlans(question).find((p) => p.title === 'New drive in first, old one outside')!
    const place = { ...bay, bay: 'bay 2' }
    expect(leftOutside(first, ['new'])).toEqual([{ driveId: 'old', place }])
    expect(leftOutside(plan, ['new'])).toEqual([])
    const taken = { actions: [...first.actions, { do: 'take', driveId: 'old', from: place } as const] }
    expect(leftOutside(taken, ['new'])).toEqual([])
    // One that was in it from the start, and that no hand touches.
    const { actions } = first
    const untouched = { actions: actions.filter((a) => a.do === 'transfer') }
    expect(leftOutside(untouched, ['new'])).toEqual([{ driveId: 'old', place }])
    // A third drive that it went over holds a copy too.
    const over = findPlans(smallQuestion({ ...BENCH, slots: 'blade', transfer: true })).find((p) =>
      /^Two legs over/.test(p.title),
    )!
    expect(leftOutside(over, ['new']).map((l) => l.driveId)).toEqual(['carrier'])
    expect(plugsIn(first, 'dock', 'desk')).toBe(true)
    expect(plugsIn(first, 'dock', 'another')).toBe(false)
    expect(plugsIn(first, 'cable', 'desk')).toBe(false)
  })

  it('is drawn as a course from the stick to the start', () => {
    const course = courseOf(plan, question.bench)
    expect(course.map((s) => [s.title, s.toNext])).toEqual([
      ['Rescue stick', 'start'],
      ['Model old', 'bytes'],
      ['Model new', 'hands'],
      ['Model old out, Model new in', undefined],
    ])
    expect(course[1].label).toBe('100.0 GiB, 410 MB/s')
    expect(course.at(-1)!.sub).toMatch(/starts here/)
  })
})
