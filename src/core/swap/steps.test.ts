import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import type { Hands } from '../route/types'
import type { Computer } from '../things/computer'
import { benchOf, computer, dock, drive } from '../things/testing'
import { type SwapQuestion, swapSteps } from './steps'
import { onTray, ticked } from './tray'
import { SwapStepSchema } from './types'

const slot = { kind: 'slot', computerId: 'desk', slot: 'SATA 0' } as const
const bay = { kind: 'bay', accessoryId: 'dock', bay: 'bay 1' } as const

const benchWith = (desk: Computer) =>
  benchOf([desk], [dock('dock')], [drive('old', { place: slot }), drive('new', { place: bay })])

const swap: Hands[] = [
  { do: 'off', computerId: 'desk' },
  { do: 'take', driveId: 'old', from: slot },
  { do: 'take', driveId: 'new', from: bay },
  { do: 'put', driveId: 'new', into: slot },
  { do: 'start', computerId: 'desk', from: 'target' },
]

function question(changes: Partial<SwapQuestion> = {}, running: 'off' | 'stick' = 'stick'): SwapQuestion {
  const desk = computer('desk', { running, mains: true })
  return {
    bench: benchOf([desk], [dock('dock')], [drive('old', { place: slot }), drive('new', { place: bay })]),
    computerId: 'desk',
    hands: swap,
    later: [],
    sourceIds: ['old'],
    ...changes,
  }
}

describe('the swap', () => {
  it('takes all power away before a drive is touched, and gives it back last', () => {
    const effects = swapSteps(question()).map((step) => step.effect?.kind)
    expect(effects.filter(Boolean)).toEqual(['power-off', 'mains-out', 'take', 'take', 'put', 'mains-in', 'power-off'])
  })

  it('closes a case that can be started open only once it has started', () => {
    const steps = swapSteps(question())
    const ids = steps.map((s) => s.id)
    expect(steps.filter((s) => s.afterStart).map((s) => s.id)).toEqual(['shut-down-again', 'cover-on-last'])
    expect(ids.slice(-3)).toEqual(['mains-in', 'shut-down-again', 'cover-on-last'])
    // With copying still to come it is closed before that.
    const before = swapSteps(question({ later: [{ do: 'put', driveId: 'old', into: bay }] }))
    expect(before.some((s) => s.afterStart)).toBe(false)
    expect(before.at(-2)?.id).toBe('cover-on')
  })

  it('sets an old drive aside that the plan leaves in a dock, before anything gets power', () => {
    const steps = swapSteps(question({ aside: [{ driveId: 'old', place: bay }] }))
    expect(steps[0]).toMatchObject({
      id: 'aside-old',
      title: 'Set the Model old 240 GB aside',
      effect: { kind: 'take', toShelf: true },
    })
    expect(steps[0].afterStart).toBeUndefined()
    const third = benchOf([computer('desk')], [dock('dock')], [drive('third', { place: bay })])
    expect(swapSteps(question({ bench: third, hands: [], aside: [{ driveId: 'third', place: bay }] }))).toMatchObject([
      { short: 'Transfer drive out', effect: { kind: 'take', toShelf: false } },
    ])
    const alone = swapSteps(question({ hands: [], aside: [{ driveId: 'old', place: bay }] }))
    expect(alone.map((s) => s.id)).toEqual(['aside-old'])
    expect(swapSteps(question({ hands: [] }))).toEqual([])
  })

  it('leaves no screw on the tray, wherever the case stands', () => {
    const group = fc.record({
      count: fc.integer({ min: 1, max: 9 }),
      kind: fc.constantFrom('M2', 'M3', '6-32'),
      lengthMm: fc.constantFrom(3, 4, 6),
      where: fc.constantFrom('', 'at the back'),
      hidden: fc.constant(''),
    })
    const groups = fc.array(group, { maxLength: 4 })
    fc.assert(
      fc.property(
        groups,
        groups,
        fc.constantFrom('desktop' as const, 'laptop' as const),
        fc.nat(20),
        (cover, mount, kind, n) => {
          const desk = computer('desk')
          const chassis = {
            ...desk.chassis,
            kind,
            hasBattery: kind === 'laptop',
            cover: { ...desk.chassis.cover, screws: 0, groups: cover },
            driveMount: { ...desk.chassis.driveMount, screws: 0, groups: mount },
          }
          const steps = swapSteps(question({ bench: benchWith({ ...desk, chassis }) }))
          const ids = steps.map((s) => s.id)
          expect(onTray(steps, ids, {})).toEqual([])
          // On the way there is never more in than out.
          expect(onTray(steps, ids.slice(0, n), {}).every(({ count }) => count > 0)).toBe(true)
        },
      ),
    )
  })

  it('counts screws that are ticked one by one', () => {
    const steps = swapSteps(question())
    const off = steps.find((s) => s.id === 'cover-off')!
    expect(ticked(off, {})).toEqual({ done: 0, of: 2 })
    expect(ticked(off, { 'cover-off': [1] })).toEqual({ done: 1, of: 2 })
    expect(ticked(off, { 'cover-off': [7] })).toEqual({ done: 2, of: 2 })
    expect(onTray(steps, [], { 'cover-off': [1] })).toEqual([{ words: '6-32 × 6 mm', count: 1 }])
  })

  it('moves over what belongs to the place and not to the drive', () => {
    const desk = computer('desk')
    const chassis = { ...desk.chassis, movesOver: [{ name: 'heat sensor', how: 'Lift it with the pick.' }] }
    const ids = swapSteps(question({ bench: benchWith({ ...desk, chassis }) })).map((s) => s.id)
    const order = ['take-old', 'off-old-0', 'take-new', 'on-new-0', 'put-new'].map((id) => ids.indexOf(id))
    expect(order).toEqual([...order].sort((a, b) => a - b))
    expect(order[0]).toBeGreaterThan(0)
  })

  it('does not shut down what is off, and still pulls the mains', () => {
    const ids = swapSteps(question({}, 'off')).map((s) => s.id)
    expect(ids.slice(0, 2)).toEqual(['mains-out', 'drain'])
  })

  it('names screws with their number and length, and every step once', () => {
    const steps = swapSteps(question())
    const { screws } = steps.find((s) => s.id === 'cover-off')!
    expect(screws).toMatchObject({ way: 'out', groups: [{ count: 2, kind: '6-32', lengthMm: 6 }] })
    expect(new Set(steps.map((s) => s.id)).size).toBe(steps.length)
    for (const step of steps) expect(SwapStepSchema.parse(step)).toEqual(step)
  })

  it('puts the old drive on the shelf only when the plan does not need it again', () => {
    const take = (later: SwapQuestion['later']) =>
      swapSteps(question({ later })).find((s) => s.id === 'take-old')?.effect
    expect(take([])).toMatchObject({ toShelf: true })
    expect(take([{ do: 'put', driveId: 'old', into: bay }])).toMatchObject({ toShelf: false })
  })

  it('opens no computer where only a dock is touched', () => {
    const steps = swapSteps(question({ hands: [{ do: 'take', driveId: 'new', from: bay }] }))
    expect(steps.map((s) => s.place)).toEqual(['dock'])
  })

  it('unplugs a battery before anything inside is touched', () => {
    const laptop = computer('desk', { running: 'off', mains: true })
    const bench = benchOf(
      [{ ...laptop, chassis: { ...laptop.chassis, hasBattery: true } }],
      [dock('dock')],
      [drive('old', { place: slot }), drive('new', { place: bay })],
    )
    const ids = swapSteps(question({ bench })).map((s) => s.id)
    expect(ids.indexOf('battery-off')).toBeLessThan(ids.indexOf('take-old'))
  })

  it('turns Secure Boot off and on where the plan says so', () => {
    const steps = swapSteps(question({ hands: [{ do: 'secure-boot', computerId: 'desk', on: false }] }))
    expect(steps.map((s) => s.effect)).toEqual([{ kind: 'secure-boot', computerId: 'desk', on: false }])
  })
})
