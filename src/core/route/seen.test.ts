import { expect, it } from 'vitest'
import type { Drive } from '../things/drive'
import type { Computer } from '../things/computer'
import { benchOf, computer, dock, drive, network } from '../things/testing'
import { beforePlay, play, whyItFails } from './play'
import type { RouteQuestion } from './question'
import { findPlans } from './search'
import { legsOf } from './types'

const port = (id: string) =>
  dock(id, {
    bays: [{ id: 'drive', takes: [{ form: '2.5-inch' }], speaks: [{ protocol: 'SATA', link: 'usb-10' }] }],
  })
const at = (accessoryId: string) => ({ kind: 'bay', accessoryId, bay: 'drive' }) as const

const seen = (id: string, rest: Partial<Drive> = {}, path: string | null = `/dev/${id}`) =>
  drive(id, {
    file: null,
    kernel: { ...{ key: id, path, device: null, serialOf: 'drive', uses: [], hasTwin: false, forgets: false } },
    ...rest,
  })

const here = computer('here', { isThis: true, running: 'stick', sockets: [] })
const desk = computer('desk', { mains: false })

const question = (drives: Drive[], changes: Partial<RouteQuestion> = {}): RouteQuestion => ({
  bench: benchOf([here, desk], [port('a'), port('b')], drives),
  ...{ computerId: 'desk', goal: { kind: 'computer', computerId: 'desk' }, roomOn: {}, claimedDrives: [], past: {} },
  pairs: [{ sourceId: 'old', targetId: 'new', bytes: 10e9, imagesAt: [] }],
  ...changes,
})

it('copies drives of this computer where they are plugged in, without a hand before it', () => {
  const asked = question([seen('old', { place: at('a') }), seen('new', { place: at('b') })])
  const [plan, ...more] = findPlans(asked)
  expect(more).toEqual([])
  const [{ before, transfer }] = legsOf(plan).legs
  expect([before, transfer.by, transfer.live]).toEqual([[], 'here', false])
  // Afterwards hands put it where it lives.
  expect(plan.actions.at(-2)).toMatchObject({ do: 'put', driveId: 'new', into: { computerId: 'desk' } })
  expect(play(plan.actions, beforePlay(asked.bench, asked.pairs), asked.pairs).stop).toBeUndefined()
})

it('has no way to one that is not plugged in, or that is simulated', () => {
  const old = seen('old', { place: at('a') })
  expect(findPlans(question([old, seen('new', {}, null)]))).toEqual([])
  expect(findPlans(question([old, drive('new', { place: at('b') })]))).toEqual([])
})

it('goes on with one that was plugged in elsewhere since, and not with one that is gone', () => {
  const asked = question([seen('old', { place: at('a') }), seen('new', { place: at('b') })])
  const [plan] = findPlans(asked)
  const now = (one: Drive) => {
    const bench = { ...asked.bench, drives: [asked.bench.drives[0], one] }
    return whyItFails(plan, 0, beforePlay(bench, asked.pairs), asked.pairs)
  }
  expect(now(seen('new', { place: at('c') }))).toBeUndefined()
  expect(now(seen('new', {}, null))).toMatch(/not plugged in/)
})

it('writes one in a slot of this computer, from which it is started then', () => {
  const slots = ['SATA 0', 'SATA 1'].map((id) => ({ ...here.slots[0], id }))
  const both = { ...here, slots }
  const drives = ['old', 'new'].map((id, i) =>
    seen(id, { place: { kind: 'slot', computerId: 'here', slot: `SATA ${i}` } }),
  )
  const asked = question(drives, { computerId: 'here', goal: { kind: 'computer', computerId: 'here' } })
  const plans = findPlans({ ...asked, bench: benchOf([both], [], drives) })
  expect(plans.map((p) => legsOf(p).legs[0].transfer.by)).toContain('here')
})

it('writes an image that is a file here onto a drive, wherever what it stands for sits', () => {
  const image = drive('old', {
    file: null,
    image: 'old desk.vhdx',
    place: { kind: 'slot', computerId: 'desk', slot: 'SATA 0' },
  })
  const asked = question([image, seen('new', { place: at('b') })])
  const [plan] = findPlans(asked)
  const [{ before, transfer }] = legsOf(plan).legs
  expect([before, transfer.by, transfer.live]).toEqual([[], 'here', false])
  const lies = { ...image, place: { kind: 'table' as const } }
  expect(legsOf(findPlans(question([lies, asked.bench.drives[1]]))[0]).legs[0].before).toEqual([])
  // A simulated drive with a file of its own is no file of a technician's.
  expect(findPlans(question([drive('old', { place: image.place }), seen('new', { place: at('b') })]))).toEqual([])
})

it('reaches what another bench lends by the network that this computer hangs at', () => {
  const far = { id: 'far', name: 'Miele e Cera', detail: '', kind: 'far-bench', link: 'ethernet-1' } as const
  const lent = drive('old', {
    ...{ file: null, place: { kind: 'far', accessoryId: 'far' } },
    borrowed: {
      ...{ farBenchId: 'far', address: 'nbds://imbarco@192.0.2.7/disk', writable: false, state: 'here' },
      ...{ bytesPerSecond: 40e6, stamp: '' },
    },
  })
  const asked = question([lent, seen('new', { place: at('b') })])
  const bench = (cards: Computer['networkCards']) =>
    benchOf([{ ...here, networkCards: cards }, desk], [port('b'), far, network('lan')], asked.bench.drives)
  const card = { name: 'eth0', link: 'own' as const, address: null }
  const [plan] = findPlans({ ...asked, bench: bench([card]) })
  expect(legsOf(plan).legs[0].transfer).toMatchObject({ by: 'here', timing: { copyBytesPerSecond: 40e6 } })
  expect(findPlans({ ...asked, bench: bench([]) })).toEqual([])
})
