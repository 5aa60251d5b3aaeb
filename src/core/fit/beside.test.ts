import { describe, expect, it } from 'vitest'
import { GIB } from '../bytes/size'
import { whyNotBeside } from './beside'
import { type MadePart, surveyWith } from './testing'
import type { FitWish } from './types'

const own: FitWish = {
  ...{ rules: {}, sizes: {}, reserve: 0 },
  identity: { of: 'all', seed: '6a1f7c52-0f5e-4d57-9b5d-6d0a4c0e1b77' },
}
const WINDOWS: MadePart[] = [
  { role: 'boot', sectors: 204_800, volume: { kind: 'fat32', name: 'FAT32' } },
  { role: 'reserved', sectors: 32_768, volume: null },
  { role: 'system', sectors: 4_000_000 },
  { role: 'data', sectors: 4_000_000, volume: { kind: 'bitlocker', name: 'BitLocker', encrypted: true } },
]
const with_ = (...more: MadePart[]) => surveyWith([...WINDOWS, ...more], 64 * GIB)

describe('a target beside its source', () => {
  it('has to have identities of its own for all that is on it', () => {
    expect(whyNotBeside(with_(), own)).toBeUndefined()
    const { identity, ...kept } = own
    expect(whyNotBeside(with_(), kept)).toMatch(/new identities/)
    expect(whyNotBeside(with_(), { ...kept, identity: { ...identity!, of: 'disk' } })).toMatch(/new identities/)
  })

  it.each(['ext', 'swap', 'lvm', 'luks', 'apfs', 'hfsplus'])(
    'has no %s volume, which carries its identity inside',
    (kind) => {
      const survey = with_({ role: 'data', sectors: 400_000, volume: { kind, name: kind } })
      expect(whyNotBeside(survey, own)).toMatch(/identity inside of it/)
      expect(whyNotBeside(survey, { ...own, leaveOut: [5] })).toBeUndefined()
    },
  )
})
