import { beforeAll, describe, expect, it } from 'vitest'
import { MemoryDevice } from '../block/memory'
import { MIB } from '../bytes/size'
import { surveyDrive } from '../survey/survey'
import { makeSystemDisk, sha256 } from '../testing-disk'
import { USUAL_CHOICES } from '../copy/choices'
import { openCount, readyItems } from './items'
import type { ReadyFacts } from './port'
import { plateMatches, platePrefix } from './plate-check'

let settled: ReadyFacts

beforeAll(async () => {
  settled = {
    source: await surveyDrive(await makeSystemDisk(), sha256),
    target: await surveyDrive(new MemoryDevice(800 * MIB), sha256),
    sourceName: 'Corvina S3 240 GB',
    targetName: 'Corvina S5 960 GB',
    computer: {
      name: 'ticket desk',
      running: 'stick',
      bootMenuKey: 'F11',
      hasBattery: false,
      mains: true,
      batteryPercent: null,
      secureBoot: true,
      programs: [],
      sleepMinutes: null,
      online: true,
      addresses: [],
    },
    live: false,
    choices: USUAL_CHOICES,
    further: [],
    told: {},
    stickName: 'rescue stick',
    hostNeededBytes: 100,
    hostFreeBytes: 1000,
    backup: { where: 'on the server', date: '2 May' },
    sourceUnchanged: true,
    targetUnchanged: true,
    targetConnected: true,
    sourceConnected: true,
    handsFirst: false,
    routeHolds: true,
    surveyedAt: '09:00',
    leftOut: [],
  }
})

const at = (changes: Partial<NonNullable<ReadyFacts['computer']>>) => (): Partial<ReadyFacts> => ({
  computer: { ...settled.computer!, ...changes },
})

function stateOf(changes: Partial<ReadyFacts>, id: string) {
  const items = readyItems({ ...settled, ...changes })
  const item = items.find((i) => i.id === id)
  return { state: item?.state, title: item?.title, open: openCount(items), first: items[0].id }
}

describe('the list', () => {
  it('is all settled when everything is as it should be', () => {
    expect(openCount(readyItems(settled))).toBe(0)
  })

  it.each<[string, Partial<ReadyFacts> | (() => Partial<ReadyFacts>), string, string]>([
    ['a running system', at({ running: 'system' }), 'not-running', 'open'],
    ['a computer that is off', at({ running: 'off' }), 'not-running', 'open'],
    ['no mains power', at({ mains: false }), 'mains', 'open'],
    ['no backup', { backup: undefined }, 'backup', 'open'],
    ['a changed target', { targetUnchanged: false }, 'target-same', 'blocks'],
    ['a changed source', { sourceUnchanged: false }, 'source-same', 'blocks'],
    ['a target that is gone', { targetConnected: false }, 'target-same', 'blocks'],
    ['too little room on the host', { hostFreeBytes: 10 }, 'host-room', 'blocks'],
    ['a drive in another place', { routeHolds: false }, 'route-holds', 'blocks'],
    ['drives that have to change places', { handsFirst: true }, 'hands-first', 'blocks'],
  ])('stops at %s', (_what, changes, id, state) => {
    expect(stateOf(typeof changes === 'function' ? changes() : changes, id)).toMatchObject({
      state,
      open: 1,
      first: id,
    })
  })

  it('lets a missing backup pass once the customer knows', () => {
    expect(stateOf({ backup: undefined, told: { backup: { at: '09:05' } } }, 'backup')).toMatchObject({
      state: 'settled',
      open: 0,
    })
  })

  it('blocks on a volume that was not closed cleanly, by name', async () => {
    const source = await surveyDrive(await makeSystemDisk({ dirty: true }), sha256)
    expect(stateOf({ source }, 'clean')).toMatchObject({
      state: 'blocks',
      title: 'Harbour (C:) was not closed cleanly.',
    })
  })

  it('blocks on a system that sleeps, and tells what the fit leaves behind', () => {
    const [first, ...others] = settled.source.partitions
    const idleFiles = [{ path: '/hiberfil.sys', kind: 'hibernation' as const, sizeBytes: 1, asleep: true }]
    const source = { ...settled.source, partitions: [{ ...first, idleFiles }, ...others] }
    expect(stateOf({ source }, 'asleep')).toMatchObject({ state: 'blocks', open: 1, first: 'asleep' })
    expect(stateOf({}, 'asleep').state).toBeUndefined()
    const leftOut = [{ title: 'Recovery', role: 'recovery' as const }]
    expect(stateOf({ leftOut }, 'left-out')).toMatchObject({ state: 'settled', title: 'Recovery is left out', open: 0 })
  })

  it('names what will be erased', () => {
    expect(stateOf({ target: settled.source }, 'erased').title).toMatch(
      /EFI system, Reserved, Harbour \(C:\), Recovery/,
    )
  })

  it('asks for no stick where a computer of the shop copies', () => {
    const facts = { computer: undefined, hostName: 'Workshop host' }
    expect(stateOf(facts, 'not-running')).toMatchObject({
      state: 'settled',
      title: 'The Workshop host does the copying',
    })
    expect(stateOf(facts, 'mains').state).toBeUndefined()
  })

  it('puts what blocks before what is open, and what is settled last', () => {
    const states = readyItems({ ...settled, ...at({ running: 'off' })(), hostFreeBytes: 1 }).map((i) => i.state)
    expect(states.slice(0, 3)).toEqual(['blocks', 'open', 'settled'])
  })
})

describe('the plate check', () => {
  it('takes the last four characters, in any case, and nothing else', () => {
    const serial = 'CRV5-2207-4M1Q'
    expect(platePrefix(serial)).toBe('CRV5-2207-')
    expect(plateMatches(serial, '4m1q ')).toBe(true)
    for (const wrong of ['', '4M1', '4M1X', '07KD', 'CRV5-2207-4M1Q']) expect(plateMatches(serial, wrong)).toBe(false)
  })
})
