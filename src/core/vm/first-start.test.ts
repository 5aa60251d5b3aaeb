import { describe, expect, it } from 'vitest'
import { GIB } from '../bytes/size'
import { type FirstStartFacts, firstStartSteps } from './first-start'

const BEFORE: FirstStartFacts = {
  machine: {
    connected: false,
    vlan: undefined,
    memoryBytes: 32 * GIB,
    cores: 8,
    disks: 2,
  },
  physical: { name: 'logbook server', running: true, memoryBytes: 32 * GIB, cores: 8 },
  started: false,
  checks: 0,
  failed: 0,
  leftover: [],
  devicesGone: false,
  addresses: ['192.168.7.20'],
  addressGiven: false,
}
const STARTED: FirstStartFacts = { ...BEFORE, started: true, checks: 7, leftover: ['Lets go of 4 devices.'] }

const states = (facts: FirstStartFacts) => firstStartSteps(facts).map(({ id, state }) => `${id} ${state}`)
const open = (facts: FirstStartFacts) =>
  firstStartSteps(facts).flatMap(({ id, state }) => (state === 'open' ? [id] : []))

describe('the first start of a virtual machine', () => {
  it('begins without network, and asks for nothing else before', () => {
    expect(open(BEFORE)).toEqual(['start'])
    expect(states(BEFORE).filter((s) => s.endsWith('done'))).toEqual([])
  })

  it('goes no further while a check fails', () => {
    expect(open({ ...STARTED, failed: 1 })).toEqual(['volumes'])
  })

  it('connects the card only when the other machine is off', () => {
    expect(open(STARTED)).toEqual(['devices', 'power-off'])
    expect(open({ ...STARTED, devicesGone: true })).toEqual(['power-off', 'address'])
    const off = { ...STARTED, devicesGone: true, physical: { ...STARTED.physical, running: false } }
    expect(open(off)).toEqual(['address', 'network'])
    const connected = { ...off, addressGiven: true, machine: { ...off.machine, connected: true, vlan: 20 } }
    expect(open(connected)).toEqual(['size'])
    const small = { ...connected, machine: { ...connected.machine, memoryBytes: 8 * GIB, cores: 4 } }
    expect(open(small)).toEqual([])
    expect(states(small).every((s) => s.endsWith('done'))).toBe(true)
  })

  it('has no address to give where the old card had none', () => {
    expect(states({ ...STARTED, addresses: [] })).toContain('address done')
  })
})
