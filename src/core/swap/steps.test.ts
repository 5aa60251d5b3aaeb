import { describe, expect, it } from 'vitest'
import { type SwapQuestion, swapSteps, SwapStepSchema } from './steps'

const question: SwapQuestion = {
  computerName: 'ticket desk',
  chassis: {
    kind: 'desktop',
    hasBattery: false,
    cover: { name: 'side panel', screws: 2, screw: '6-32 × 6 mm', how: 'Slide it back.' },
    driveMount: { screws: 4, screw: 'M3 × 5 mm', how: 'Hold the drive.' },
    tools: ['Phillips 2'],
  },
  slotName: 'SATA 0',
  sourceName: 'Corvina S3 240 GB',
  targetName: 'Corvina S5 960 GB',
  targetOutside: 'USB dock A, bay 1',
}

describe('the swap', () => {
  it('takes all power away before a drive is touched, and gives it back last', () => {
    const effects = swapSteps(question).map((step) => step.effect)
    expect(effects.filter(Boolean)).toEqual([
      'power-off',
      'mains-out',
      'source-out',
      'target-to-hand',
      'target-in',
      'mains-in',
    ])
    expect(effects.at(-1)).toBe('mains-in')
  })

  it('names screws with their number and length, and every step once', () => {
    const steps = swapSteps(question)
    expect(steps.find((s) => s.id === 'cover-off')?.how).toMatch(/^2 screws, 6-32 × 6 mm\./)
    expect(new Set(steps.map((s) => s.id)).size).toBe(steps.length)
    for (const step of steps) expect(SwapStepSchema.parse(step)).toEqual(step)
  })

  it('leaves the new drive in place when it is inside already', () => {
    const ids = swapSteps({ ...question, targetOutside: undefined }).map((s) => s.id)
    expect(ids).not.toContain('target-in')
    expect(ids).toContain('source-out')
  })
})
