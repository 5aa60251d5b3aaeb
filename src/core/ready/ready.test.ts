import { beforeAll, describe, expect, it } from 'vitest'
import { MemoryDevice } from '../block/memory'
import { judgeSignature, type Signature } from '../boot/signature'
import { groupDigits, MIB } from '../bytes/size'
import { checkMaps } from '../survey/check-maps'
import { surveyDrive } from '../survey/survey'
import { makeSystemDisk, sha256 } from '../testing-disk'
import { USUAL_CHOICES } from '../copy/choices'
import { needsOf, openCount, readyItems } from './items'
import type { ReadyFacts } from './port'
import { plateMatches, platePrefix } from './plate-check'

let settled: ReadyFacts

beforeAll(async () => {
  const disk = await makeSystemDisk()
  settled = {
    source: await checkMaps(disk, await surveyDrive(disk, sha256)),
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
    },
    live: false,
    home: { name: 'ticket desk', addresses: [] },
    adapters: [],
    choices: USUAL_CHOICES,
    further: [],
    acknowledged: {},
    stickName: 'rescue stick',
    hostNeededBytes: 100,
    hostFreeBytes: 1000,
    backup: { where: 'on the server', date: '2 May' },
    sourceUnchanged: true,
    targetUnchanged: true,
    targetConnected: true,
    sourceConnected: true,
    handsFirst: false,
    elsewhere: [],
    lent: [],
    seen: [],
    routeHolds: true,
    surveyedAt: '09:00',
    resized: [],
    leftOut: [],
  }
})

const at = (changes: Partial<NonNullable<ReadyFacts['computer']>>) => (): Partial<ReadyFacts> => ({
  computer: { ...settled.computer!, ...changes },
})

/** The target has a system of its own, which sleeps, and gets another one beside it. */
const asleepBeside = (): Partial<ReadyFacts> => {
  const file = { path: '/hiberfil.sys', kind: 'hibernation' as const, sizeBytes: 1, asleep: true }
  const { source } = settled
  const partitions = source.partitions.map((p) => (p.role === 'system' ? { ...p, idleFiles: [file] } : p))
  return { target: { ...source, partitions }, into: { partition: 5, title: 'GRADE' } }
}

function stateOf(changes: Partial<ReadyFacts>, id: string) {
  const items = readyItems({ ...settled, ...changes })
  const item = items.find((i) => i.id === id)
  return { state: item?.state, title: item?.title, open: openCount(items), first: items[0].id }
}

describe('the list', () => {
  it('says of a drive that was written since only what is so', () => {
    const why = (changes: Partial<ReadyFacts>, id: string) =>
      readyItems({ ...settled, ...changes }).find((i) => i.id === id)?.why
    expect(why({}, 'target-same')).toMatch(/its table is as it was 09:00/)
    expect(why({ targetMarked: true }, 'target-same')).toMatch(/unfinished copy, which erased it/)
    expect(why({ sourceWritten: true }, 'source-same')).toMatch(/as the leg before left it/)
  })

  it('names the bench that lends a drive, and what the connection carries', () => {
    const lent = [{ name: 'Model old', bench: 'Miele e Cera', bytesPerSecond: 84e6 }]
    const item = readyItems({ ...settled, lent }).find((i) => i.id === 'lent-Model old')
    expect(item).toMatchObject({ state: 'settled', title: 'Miele e Cera lends the Model old' })
    expect(item?.why).toMatch(/carries 84 MB\/s/)
  })

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
    ['drives that have to change places', { handsFirst: true, elsewhere: ['Model old'] }, 'hands-first', 'blocks'],
    [
      'an MBR for a computer that starts by UEFI',
      { startsIn: { name: 'new desk', mode: 'uefi', table: 'mbr' } },
      'table-kind',
      'blocks',
    ],
    [
      'a GPT for a computer that starts by BIOS',
      { startsIn: { name: 'new desk', mode: 'bios', table: 'gpt' } },
      'table-kind',
      'blocks',
    ],
    ['a system that sleeps on a drive which keeps it', asleepBeside, 'asleep-target', 'blocks'],
  ])('stops at %s', (_what, changes, id, state) => {
    expect(stateOf(typeof changes === 'function' ? changes() : changes, id)).toMatchObject({
      state,
      open: 1,
      first: id,
    })
  })

  it.each<[string, Partial<ReadyFacts>, RegExp]>([
    [
      'a failing source',
      { sourceHealth: { powerOnHours: 1, temperatureCelsius: 40, pendingSectors: 41 } },
      /is failing/,
    ],
    [
      'a volume that comes into a drive with others',
      { into: { partition: 5, title: 'GRADE', holds: 'holds files' } },
      /^Partition 5, GRADE, of the Corvina S5 960 GB holds files$/,
    ],
    ['nothing read back', { choices: { ...USUAL_CHOICES, verify: false } }, /Nothing will be read back/],
    [
      'a second target',
      {
        further: [
          {
            id: 'x',
            name: 'Tellina T1 960 GB',
            connected: true,
            sameSize: true,
            taken: null,
            holds: 'it holds nothing',
          },
        ],
      },
      /Tellina T1 960 GB is written in the same reading/,
    ],
  ])('tells of %s without stopping', (_what, changes, words) => {
    const items = readyItems({ ...settled, ...changes })
    expect(openCount(items)).toBe(0)
    expect(items.filter((i) => words.test(i.title))).toHaveLength(1)
    expect(readyItems(settled).filter((i) => words.test(i.title))).toHaveLength(0)
  })

  it.each<[string, Partial<ReadyFacts['further'][number]>, RegExp]>([
    ['gone', { connected: false }, /not connected/],
    ['of another size', { sameSize: false }, /another size/],
    ['another move’s', { taken: 'The Tellina T1 belongs to another move.' }, /belongs to another move/],
  ])('stops at a further target that is %s', (_what, changes, words) => {
    const drive = { id: 'x', name: 'Tellina T1', connected: true, sameSize: true, taken: null, holds: '' }
    const [first] = readyItems({ ...settled, further: [{ ...drive, ...changes }] })
    expect([first.state, first.title]).toEqual(['blocks', expect.stringMatching(words)])
  })

  it('of a system that runs asks for its programs, network and sleep, and not for the stick', () => {
    const till = { id: 'till', name: 'Ticket till', kind: 'program' as const, running: true }
    const live = (changes: Partial<NonNullable<ReadyFacts['computer']>>): ReadyFacts => ({
      ...settled,
      live: true,
      computer: { ...settled.computer!, running: 'system', programs: [till], sleepMinutes: 30, ...changes },
    })
    const open = (facts: ReadyFacts) => readyItems(facts).flatMap((i) => (i.state === 'settled' ? [] : [i.id]))
    expect(open(live({}))).toEqual(['program-till', 'network', 'sleep'])
    const quiet = { programs: [{ ...till, running: false }], online: false, sleepMinutes: null }
    expect(open(live(quiet))).toEqual([])
    expect(open(live({ ...quiet, running: 'off' }))).toEqual(['not-running'])
    expect(readyItems(live(quiet)).find((i) => i.id === 'snapshot')?.title).toBe('A snapshot of up to 2 GiB')
    const without = { ...live(quiet), choices: { ...USUAL_CHOICES, snapshotMib: null } }
    expect(readyItems(without).find((i) => i.id === 'snapshot')?.title).toMatch(/not of one moment/)
    // A computer with a fixed address says so, whoever copies.
    const home = { name: 'logbook server', addresses: ['192.168.7.20'] }
    const fixed = readyItems({ ...settled, home }).find((i) => i.id === 'address')
    expect(fixed?.why).toMatch(/never be on the network together/)
    const goal = { kind: 'virtual-machine', hostName: 'Workshop host', reasons: [], obstacles: [] } as const
    const virtual = readyItems({ ...settled, home, goal }).find((i) => i.id === 'address')
    expect(virtual?.why).toMatch(/machine on the Workshop host starts without network/)
  })

  it('lets what blocks be gone past only where that can be sane, and only as it was when it was said', async () => {
    const disk = await makeSystemDisk({ dirty: true })
    const source = await checkMaps(disk, await surveyDrive(disk, sha256))
    const item = readyItems({ ...settled, source }).find((i) => i.id === 'clean')!
    const said = { at: '09:07', title: item.title, reason: 'The customer needs it today' }
    const past = readyItems({ ...settled, source, acknowledged: { clean: said } })
    expect(openCount(past)).toBe(0)
    expect(past.find((i) => i.id === 'clean')).toMatchObject({ overridden: said.reason, known: 'skipped 09:07' })
    const other = readyItems({ ...settled, source, acknowledged: { clean: { ...said, title: 'Something else' } } })
    expect(openCount(other)).toBe(1)
    const never = {
      'target-same': { at: '09:07', title: 'The Corvina S5 960 GB is not connected.', reason: 'why not' },
    }
    expect(openCount(readyItems({ ...settled, targetConnected: false, acknowledged: never }))).toBe(1)
  })

  it('takes a damaged volume when every sector of it is taken', async () => {
    const { source } = settled
    const partitions = source.partitions.map((p) =>
      p.role === 'system'
        ? { ...p, findings: [{ severity: 'damage' as const, code: 'x', sentence: 'x', evidence: 'x' }] }
        : p,
    )
    const facts = { ...settled, source: { ...source, partitions } }
    expect(readyItems(facts)[0]).toMatchObject({ id: 'clean', state: 'blocks', action: { id: 'take-every' } })
    const number = partitions.find((p) => p.role === 'system')!.number
    expect(openCount(readyItems({ ...facts, choices: { ...USUAL_CHOICES, everyOf: [number] } }))).toBe(0)
    expect(openCount(readyItems({ ...facts, choices: { ...USUAL_CHOICES, read: 'every' } }))).toBe(0)
  })

  it('waits for the check of used-block maps, unless that is skipped', () => {
    const withMaps = (map?: 'checked' | 'missed' | 'unchecked'): Partial<ReadyFacts> => ({
      source: {
        ...settled.source,
        partitions: settled.source.partitions.map((p) =>
          p.role === 'system' ? { ...p, volume: { ...p.volume!, map } } : p,
        ),
      },
    })
    const item = (changes: Partial<ReadyFacts>) => readyItems({ ...settled, ...changes }).find((i) => i.id === 'maps')
    expect(item({})).toMatchObject({ state: 'settled', known: 'read 09:00' })
    expect(item(withMaps())).toMatchObject({ state: 'open', known: 'not done', action: { id: 'check-maps' } })
    expect(item({ ...withMaps(), mapCheckProgress: { title: 'C:', files: 12_345 } })).toMatchObject({
      state: 'open',
      known: 'running',
      why: `${groupDigits(12_345)} files of C: so far.`,
      action: { id: 'skip-map-check' },
    })
    const believed = { choices: { ...USUAL_CHOICES, mapsUnchecked: true } }
    expect(item({ ...withMaps(), ...believed })).toMatchObject({ state: 'settled', known: 'as chosen' })
    expect(item(withMaps('unchecked'))).toMatchObject({ state: 'settled', known: 'cannot be told' })
    expect(item(withMaps('missed'))?.title).toMatch(/misses blocks that its files use/)
    const { number } = settled.source.partitions.find((p) => p.role === 'system')!
    expect(item({ ...withMaps('missed'), resized: [number] })).toMatchObject({ state: 'blocks' })
    expect(item({ ...withMaps(), choices: { ...USUAL_CHOICES, read: 'every' } })).toBeUndefined()
  })

  it('lets a missing backup pass once the customer knows', () => {
    expect(stateOf({ backup: undefined, acknowledged: { backup: { at: '09:05' } } }, 'backup')).toMatchObject({
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
    // What it had open is in the file, so that leaving it out is not offered.
    expect(stateOf({ source }, 'idle-files').state).toBeUndefined()
    const awake = { ...source, partitions: [{ ...first, idleFiles: [{ ...idleFiles[0], asleep: false }] }] }
    expect(stateOf({ source: awake }, 'idle-files')).toMatchObject({ state: 'settled' })
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

describe('the list of a move to another computer', () => {
  const driver = {
    name: 'trmst9',
    key: 'Services\\trmst9',
    known: false,
    start: undefined,
    path: '',
    fileBytes: undefined,
  }
  const goal = { kind: 'other-computer', name: 'Tramonto T9', drivers: ['trmst9'], installed: [driver] } as const
  const atHand = { service: 'trmst9', name: 'ST9 storage controller', folder: '/drivers/T9' }

  it.each<[string, ReadyFacts['goal'], string, RegExp]>([
    ['no driver anywhere', goal, 'open', /^No driver for the controller of the Tramonto T9/],
    ['a driver on the stick', { ...goal, atHand }, 'settled', /trmst9 for the Tramonto T9 is on the stick/],
    [
      'a driver that waits',
      { ...goal, installed: [{ ...driver, known: true, start: 3, fileBytes: 9 }] },
      'settled',
      /is not started early/,
    ],
    [
      'a driver that starts early',
      { ...goal, installed: [{ ...driver, known: true, start: 0, fileBytes: 9 }] },
      'settled',
      /^Its driver trmst9 serves the Tramonto T9$/,
    ],
    ['settings that cannot be read', { ...goal, installed: undefined }, 'settled', /is not known$/],
  ])('with %s', (_what, to, state, title) => {
    const item = readyItems({ ...settled, goal: to }).find((i) => i.id === 'storage-driver')!
    expect([item.state, item.title]).toEqual([state, expect.stringMatching(title)])
  })

  const network = { drivers: ['trmne9'], installed: [{ ...driver, name: 'trmne9' }] }
  const nearBy = { service: 'trmne9', name: 'NE9 network card', folder: '/drivers/T9/network' }

  it.each<[string, ReadyFacts['goal'], string | undefined, RegExp]>([
    ['of which nothing is known', { ...goal, atHand }, undefined, /^$/],
    ['without a driver anywhere', { ...goal, network }, 'open', /^No driver for the network card of the Tramonto T9/],
    [
      'with one on the stick',
      { ...goal, network: { ...network, atHand: nearBy } },
      'settled',
      /trmne9 .*on the stick$/,
    ],
    [
      'with one in the system',
      {
        ...goal,
        network: { ...network, installed: [{ ...driver, name: 'trmne9', known: true, start: 3, fileBytes: 9 }] },
      },
      'settled',
      /^Its driver trmne9 serves the network card/,
    ],
    ['of a system that cannot be read', { ...goal, network: { drivers: ['trmne9'] } }, 'settled', /is not known$/],
  ])('has a network card %s', (_what, to, state, title) => {
    const item = readyItems({ ...settled, goal: to }).find((i) => i.id === 'network-driver')
    expect([item?.state, item?.title ?? '']).toEqual([state, expect.stringMatching(title)])
  })

  it.each<[string, Signature, string | undefined, RegExp]>([
    ['it trusts', { state: 'held', signer: 'Ours' }, 'settled', /^Secure Boot of the Tramonto T9 accepts/],
    ['it does not trust', { state: 'held', signer: 'Theirs' }, 'blocks', /its signer is not trusted\.$/],
    ['whose signature does not hold', { state: 'broken', signer: 'Ours' }, 'blocks', /does not hold\.$/],
    ['who did not sign', { state: 'none' }, 'blocks', /it is not signed\.$/],
    ['that cannot be checked here', { state: 'foreign' }, 'settled', /is not known$/],
  ])('has a loader by one %s', (_who, signature, state, title) => {
    const judgement = judgeSignature({ secureBoot: true, trustedSigners: ['Ours'] }, signature)
    const to = { ...goal, atHand, loader: { path: '/EFI/BOOT/BOOTX64.EFI', judgement } }
    const item = readyItems({ ...settled, goal: to }).find((i) => i.id === 'signer')!
    expect([item.state, item.title]).toEqual([state, expect.stringMatching(title)])
    // Before a route is taken the same is told, and nothing of a computer that is not known.
    expect(needsOf(to).map((i) => i.id)).toEqual(['storage-driver', 'signer'])
    expect(needsOf(undefined)).toEqual([])
  })

  it.each([
    ['uefi', 'mbr', 'settled'],
    ['bios', 'gpt', 'open'],
    ['uefi', 'gpt', undefined],
    ['bios', 'mbr', undefined],
  ] as const)('that starts by %s is told before a route is taken what an old %s comes to', (mode, scheme, state) => {
    const [first] = needsOf({ ...goal, atHand, firmware: { mode, scheme } })
    expect(first.id === 'firmware-kind' ? first.state : undefined).toBe(state)
  })

  it('asks what becomes of what belongs to the old one, unless the system was made ready for that', () => {
    const facts = { ...settled, goal: { ...goal, atHand } }
    const of = (f: ReadyFacts) => readyItems(f).find((i) => i.id === 'generalised')
    expect(of(facts)).toMatchObject({ state: 'open', action: { id: 'reset-later' } })
    expect(of({ ...facts, acknowledged: { generalised: { at: '09:07' } } })?.state).toBe('settled')
    const partitions = settled.source.partitions.map((p) =>
      p.system ? { ...p, system: { ...p.system, generalised: true } } : p,
    )
    expect(of({ ...facts, source: { ...settled.source, partitions } })?.title).toMatch(
      /made ready for another computer/,
    )
    expect(of(settled)).toBeUndefined()
  })
})

describe('the list of a way that cannot be gone yet', () => {
  it('begins with that, and holds for the rest: nothing is erased, an adapter tells how slow it is', () => {
    const items = readyItems({
      ...settled,
      target: undefined,
      targetName: 'virtual disk on the Workshop host',
      notYet: 'Writing a virtual machine’s disk is not possible yet.',
      adapters: [{ name: 'Cable adapter', link: 'usb-2', seconds: 5400 }],
    })
    expect(items[0]).toMatchObject({ id: 'not-yet', state: 'blocks' })
    expect(items.map((i) => i.id)).not.toContain('target-same')
    expect(items.find((i) => i.id === 'erased')?.title).toBe('The virtual disk on the Workshop host is made anew')
    expect(items.find((i) => i.id === 'adapter-Cable adapter')?.why).toMatch(/about 1 h 30 min/)
    expect(openCount(items)).toBe(1)
  })

  it('names no source drive where an image is read', () => {
    expect(readyItems({ ...settled, sourceConnected: undefined }).map((i) => i.id)).not.toContain('source-same')
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

describe('a drive of this computer', () => {
  const seen = (changes: Partial<ReadyFacts['seen'][number]> = {}): Partial<ReadyFacts> => ({
    seen: [
      {
        ...{ id: 'new', name: 'Corvina S5 960 GB', path: '/dev/sdb', uses: [], serialOf: 'drive', hasTwin: false },
        ...{ isWritten: true, ...changes },
      },
    ],
  })
  it.each([
    ['that nothing uses is settled', {}, 'settled'],
    ['that is mounted blocks', { uses: ['sdb1 is mounted at /media/new'] }, 'blocks'],
    ['that is read and mounted blocks, too', { uses: ['sda2 is mounted at /'], isWritten: false }, 'blocks'],
    ['that another one says to be is not written', { hasTwin: true }, 'blocks'],
    ['that another one says to be is read', { hasTwin: true, isWritten: false }, 'settled'],
  ] as const)('%s', (_, changes, state) => {
    expect(stateOf(seen({ ...changes, uses: [...('uses' in changes ? changes.uses : [])] }), 'unused-new').state).toBe(
      state,
    )
  })
  it('takes no room of this host', () => {
    expect(stateOf({ hostNeededBytes: null, hostFreeBytes: 0 }, 'host-room').state).toBeUndefined()
  })
})
