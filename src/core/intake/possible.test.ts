import { describe, expect, it } from 'vitest'
import type { Transfer } from '../route/types'
import { type MoveFacts, whyNotYet } from './possible'

const transfer = (how: Transfer['how']) => ({ do: 'transfer', how }) as Transfer

const possible: MoveFacts = {
  plan: { live: false, actions: [transfer('copy')] },
}

describe('what can be carried out', () => {
  it('is a copy from drive to drive, in one leg or two, by an image, and into a virtual machine', () => {
    for (const how of ['capture', 'restore', 'write-disk'] as const)
      expect(whyNotYet({ plan: { live: false, actions: [transfer(how)] } })).toBeUndefined()
    expect(whyNotYet(possible)).toBeUndefined()
    for (const live of [false, true]) {
      expect(whyNotYet({ ...possible, plan: { live, actions: [transfer('copy'), transfer('copy')] } })).toBeUndefined()
    }
  })

  it.each<[string, () => Partial<MoveFacts>, RegExp]>([
    ['the network', () => ({ plan: { live: false, actions: [transfer('send')] } }), /over the network/],
  ])('is not %s, and says so', (_what, changes, reason) => {
    expect(whyNotYet({ ...possible, ...changes() })).toMatch(reason)
  })
})
