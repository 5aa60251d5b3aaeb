import { beforeAll, describe, expect, it } from 'vitest'
import { MemoryDevice } from '../block/memory'
import { MIB } from '../bytes/size'
import type { Transfer } from '../route/types'
import { surveyDrive } from '../survey/survey'
import { makeSystemDisk, sha256 } from '../testing-disk'
import { type MoveFacts, whyNotProved, whyNotYet } from './possible'

let possible: MoveFacts

const transfer = (how: Transfer['how']) => ({ do: 'transfer', how }) as Transfer

beforeAll(async () => {
  const source = await surveyDrive(await makeSystemDisk(), sha256)
  possible = {
    toVirtualMachine: false,
    toOtherComputer: false,
    plan: { live: false, actions: [transfer('copy')] },
    pairs: [{ source, target: await surveyDrive(new MemoryDevice(800 * MIB), sha256) }],
  }
})

describe('what can be followed', () => {
  it('is a start by UEFI', () => {
    expect(whyNotProved({ mode: 'uefi' })).toBeUndefined()
    expect(whyNotProved({ mode: 'bios' })).toMatch(/starts by BIOS/)
  })
})

describe('what can be carried out', () => {
  it('is a copy from drive to drive, in one leg or two', () => {
    expect(whyNotYet(possible)).toBeUndefined()
    expect(
      whyNotYet({ ...possible, plan: { live: false, actions: [transfer('copy'), transfer('copy')] } }),
    ).toBeUndefined()
  })

  it.each<[string, (facts: MoveFacts) => Partial<MoveFacts>, RegExp]>([
    ['a virtual machine', () => ({ toVirtualMachine: true }), /virtual machine/],
    ['another computer', () => ({ toOtherComputer: true }), /storage controller/],
    ['a running system', ({ plan }) => ({ plan: { ...plan, live: true } }), /while it runs/],
    ['an image on the way', () => ({ plan: { live: false, actions: [transfer('capture')] } }), /by an image/],
    ['the network', () => ({ plan: { live: false, actions: [transfer('send')] } }), /over the network/],
    [
      'an encrypted volume',
      ({ pairs: [{ source, target }] }) => ({
        pairs: [
          {
            target,
            source: {
              ...source,
              partitions: source.partitions.map((p) =>
                p.volume ? { ...p, volume: { ...p.volume, encrypted: true } } : p,
              ),
            },
          },
        ],
      }),
      /encrypted/,
    ],
  ])('is not %s, and says so', (_what, changes, reason) => {
    expect(whyNotYet({ ...possible, ...changes(possible) })).toMatch(reason)
  })
})
