import { describe, expect, it } from 'vitest'
import type { Accessory } from '../things/accessory'
import type { Computer } from '../things/computer'
import { dock, host, network, stick } from '../things/testing'
import { obstaclesOf, openingsOf } from './obstacles'
import type { RouteQuestion } from './question'
import { findPlans } from './search'
import { smallQuestion, type SmallBench } from './testing'

const POOR: SmallBench = {
  slots: 'one',
  dock: false,
  cable: false,
  stick: 'none',
  host: false,
  transfer: false,
  startsFromUsb: true,
  newInDock: false,
  running: 'off',
}

function withComputer(question: RouteQuestion, change: (c: Computer) => Computer): RouteQuestion {
  return { ...question, bench: { ...question.bench, computers: question.bench.computers.map(change) } }
}

const staying = (question: RouteQuestion): RouteQuestion => ({
  ...question,
  pairs: question.pairs.map((p) => ({ ...p, stays: true })),
})

const said = (question: RouteQuestion) => obstaclesOf(question).map((o) => `${o.what}: ${o.why}`)

describe('what does not work', () => {
  it.each<[string, RouteQuestion, RegExp]>([
    ['one slot', smallQuestion(POOR), /Both drives inside: The desk has one slot for such a drive/],
    [
      'no second slot for an old drive that stays',
      staying(smallQuestion(POOR)),
      /The old drive stays in: The desk has 1 slot for such a drive, none of them free/,
    ],
    ['no adapter', smallQuestion({ ...POOR, slots: 'blade', dock: true }), /outside: No adapter here takes this blade/],
    ['no stick', smallQuestion(POOR), /by the rescue stick: There is no rescue stick/],
    ['no start from USB', smallQuestion({ ...POOR, stick: 'signed', startsFromUsb: false }), /does not start from USB/],
    ['no network', smallQuestion(POOR), /Over the network: There is no network/],
    ['nowhere for an image', smallQuestion(POOR), /By an image: There is neither/],
    [
      'too little room for an image',
      { ...smallQuestion({ ...POOR, transfer: true }), roomOn: { carrier: { bytes: 5 * 2 ** 30, limitedBy: null } } },
      /An image on the Model carrier 4 TB: It has 5 GiB free, and the image takes 100\.0 GiB/,
    ],
    [
      'no file so large',
      {
        ...smallQuestion({ ...POOR, transfer: true }),
        roomOn: { carrier: { bytes: 2 ** 32 - 1, limitedBy: 'FAT32' } },
      },
      /FAT32 holds no file beyond [\d.]+ GiB, and the image takes 100\.0 GiB\. A volume with exFAT or NTFS does/,
    ],
    [
      'a firmware too old',
      withComputer(smallQuestion({ ...POOR, slots: 'blade' }), (c) => ({
        ...c,
        firmware: { ...c.firmware, startsFromNvme: false },
      })),
      /The firmware of the desk is too old to start from NVMe/,
    ],
    [
      'a plug without socket',
      withComputer(smallQuestion({ ...POOR, dock: true }), (c) => ({
        ...c,
        sockets: [{ plug: 'C', link: 'usb-10', count: 1 }],
      })),
      /The dock at the desk: The dock has a A plug, and the desk has no such socket/,
    ],
    [
      'another computer’s drive in the way',
      (() => {
        const question = smallQuestion({ ...POOR, dock: true })
        const [old] = question.bench.drives
        const others = ['bay 1', 'bay 2'].map((bay) => ({
          ...old,
          id: `other ${bay}`,
          place: { kind: 'bay' as const, accessoryId: 'dock', bay },
        }))
        return { ...question, bench: { ...question.bench, drives: [...question.bench.drives, ...others] } }
      })(),
      /in the dock: Drives that are not of this move sit in it/i,
    ],
  ])('is said for %s, with the missing thing', (_what, question, sentence) => {
    expect(said(question).some((s) => sentence.test(s))).toBe(true)
  })

  it('is not said of what works', () => {
    const rich = smallQuestion({ ...POOR, slots: 'two', dock: true, stick: 'signed', host: true, transfer: true })
    expect(said(rich)).toEqual([])
  })

  it('names a BIOS that cannot start from so large a drive', () => {
    const question = withComputer(smallQuestion({ ...POOR, stick: 'signed' }), (c) => ({
      ...c,
      firmware: { ...c.firmware, mode: 'bios', secureBoot: false, startsBeyond2Tib: false },
    }))
    const large = question.bench.drives.map((d) => (d.id === 'new' ? { ...d, sizeBytes: 4000e9 } : d))
    const asked = { ...question, bench: { ...question.bench, drives: large } }
    expect(findPlans(asked)).toEqual([])
    expect(said(asked).join()).toMatch(/more than 2 TiB/)
  })
})

describe('one more thing', () => {
  const available: Accessory[] = [
    dock('a dock', { name: 'USB dock' }),
    stick('a stick'),
    host('a host'),
    network('a network'),
  ]

  it('is named when it opens a route where there is none', () => {
    const question = smallQuestion({ ...POOR, stick: 'signed' })
    expect(findPlans(question)).toEqual([])
    const openings = openingsOf(question, [], available)
    expect(openings.map((o) => o.thing)).toEqual(['USB dock'])
    expect(openings[0].sentence).toMatch(/would open a route: .*min/)
  })

  it('is not named for what is only planned, nor held against that', () => {
    const question = smallQuestion({ ...POOR, stick: 'signed' })
    expect(openingsOf(question, [], available, () => false)).toEqual([])
    const slow = smallQuestion({ ...POOR, cable: true, stick: 'signed' })
    // Where nothing that is there can be carried out, what can be opens a route.
    const [first] = openingsOf(slow, findPlans(slow), available, (p) =>
      p.things.some((t) => t !== 'cable' && t !== 'stick'),
    )
    expect(first?.sentence).toMatch(/would open a route/)
  })

  it('is named when it ends the move much sooner, and not when it hardly does', () => {
    const slow = smallQuestion({ ...POOR, cable: true, stick: 'signed' })
    const openings = openingsOf(slow, findPlans(slow), available)
    expect(openings[0]).toMatchObject({ thing: 'USB dock' })
    expect(openings[0].sentence).toMatch(/would make it/)
    const quick = smallQuestion({ ...POOR, dock: true, stick: 'signed' })
    expect(openingsOf(quick, findPlans(quick), available)).toEqual([])
  })
})
