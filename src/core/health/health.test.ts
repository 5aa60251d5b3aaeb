import { describe, expect, it } from 'vitest'
import { type Health, healthVerdict } from './health'

const sound: Health = { powerOnHours: 4000, temperatureCelsius: 34, reallocatedSectors: 0, pendingSectors: 0 }

describe('the verdict on a drive', () => {
  it.each([
    ['nothing wrong', sound, 'good', /neither worn nor hot/],
    ['sectors that wait', { ...sound, pendingSectors: 41, reallocatedSectors: 3 }, 'failing', /^41 sectors cannot/],
    ['one sector given up', { ...sound, uncorrectableSectors: 1 }, 'failing', /gave up 1 sector\./],
    ['few sectors replaced', { ...sound, reallocatedSectors: 1 }, 'watch', /^1 sector was replaced/],
    ['many sectors replaced', { ...sound, reallocatedSectors: 240 }, 'failing', /^240 sectors/],
    ['spare blocks running out', { ...sound, availableSpare: 4, spareThreshold: 10 }, 'failing', /^4 %/],
    ['writes used up', { ...sound, percentageUsed: 103 }, 'failing', /103 %/],
    ['writes nearly used up', { ...sound, percentageUsed: 93 }, 'watch', /93 %/],
    ['heat', { ...sound, temperatureCelsius: 66 }, 'watch', /66 °C/],
    ['age', { ...sound, powerOnHours: 61_320 }, 'watch', /7\.0 years/],
    ['errors of the medium', { ...sound, mediaErrors: 2 }, 'failing', /2 errors/],
  ] as const)('with %s', (_what, health, state, reason) => {
    const verdict = healthVerdict(health)
    expect(verdict.state).toBe(state)
    expect(verdict.reason).toMatch(reason)
  })

  it('is open for a drive that reports nothing', () => {
    expect(healthVerdict(undefined).state).toBe('unknown')
  })
})
