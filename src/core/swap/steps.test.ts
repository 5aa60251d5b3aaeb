import { describe, expect, it } from 'vitest'
import type { Hands } from '../route/types'
import { benchOf, computer, dock, drive } from '../things/testing'
import { type SwapQuestion, swapSteps, SwapStepSchema } from './steps'

const slot = { kind: 'slot', computerId: 'desk', slot: 'SATA 0' } as const
const bay = { kind: 'bay', accessoryId: 'dock', bay: 'bay 1' } as const

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
    expect(effects.filter(Boolean)).toEqual(['power-off', 'mains-out', 'take', 'take', 'put', 'mains-in'])
    expect(effects.at(-1)).toBe('mains-in')
  })

  it('does not shut down what is off, and still pulls the mains', () => {
    const ids = swapSteps(question({}, 'off')).map((s) => s.id)
    expect(ids.slice(0, 2)).toEqual(['mains-out', 'drain'])
  })

  it('names screws with their number and length, and every step once', () => {
    const steps = swapSteps(question())
    expect(steps.find((s) => s.id === 'cover-off')?.how).toMatch(/^2 screws, 6-32 × 6 mm\./)
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
