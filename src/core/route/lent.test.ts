import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import type { Borrowed } from '../things/drive'
import { LINKS } from '../things/links'
import { computer, host, network } from '../things/testing'
import { runsOf } from '../testing'
import { transfersOf } from './measure'
import { obstaclesOf } from './obstacles'
import { beforePlay, play } from './play'
import type { RouteQuestion } from './question'
import { findPlans } from './search'
import { anySmallBench, smallQuestion, type SmallBench } from './testing'

const FAR = { id: 'far', name: 'Miele e Cera', detail: '', kind: 'far-bench', link: 'ethernet-1' } as const

const lent = (rest: Partial<Borrowed> = {}): Borrowed => ({
  ...{ farBenchId: 'far', address: 'nbds://imbarco@192.0.2.7/disk', writable: true, state: 'here' },
  ...{ bytesPerSecond: null },
  ...rest,
})

interface Lent {
  /** Which drives another bench lends, with the computer of the move there too. */
  readonly ids: readonly ('old' | 'new')[]
  readonly bytesPerSecond?: number
  readonly isInNetwork?: boolean
}

/** The same question with the computer, and drives, at another bench. */
function lentQuestion(small: SmallBench, { ids, bytesPerSecond = 1e12, isInNetwork = true }: Lent): RouteQuestion {
  const base = smallQuestion(small)
  const accessories = base.bench.accessories.filter((a) => a.kind !== 'network' && a.kind !== 'host')
  const drives = base.bench.drives.map((d) => {
    if (!ids.includes(d.id as 'old' | 'new')) return d
    const inComputer = d.place.kind === 'slot'
    return {
      ...{ ...d, borrowed: lent({ bytesPerSecond }), file: null },
      place: inComputer ? d.place : { kind: 'far' as const, accessoryId: 'far' },
    }
  })
  // What is read here comes from a computer here; the new one is at the other bench in any case.
  const computers = base.bench.computers.map((c) => ({ ...c, farBenchId: 'far' }))
  const here = ids.includes('old') ? [] : [computer('here')]
  const shop = [FAR, ...(isInNetwork ? [network(), host('shop')] : [])]
  const isHere = ids.includes('old') ? {} : { computerId: 'here' }
  const placed = drives.map((d) =>
    d.id === 'old' && here.length > 0
      ? { ...d, place: { kind: 'bay' as const, accessoryId: 'dock', bay: 'bay 2' } }
      : d,
  )
  return {
    ...base,
    ...isHere,
    bench: { computers: [...computers, ...here], drives: placed, accessories: [...accessories, ...shop] },
  }
}

const ALL: SmallBench = {
  ...{ slots: 'two', dock: true, cable: false, stick: 'signed', host: false, transfer: false },
  ...{ startsFromUsb: true, newInDock: true, running: 'off' },
}

describe('routes with a drive that another bench lends', () => {
  it.each<[string, Lent['ids']]>([
    ['read there and written here', ['old']],
    ['read here and written there', ['new']],
    ['read there and written there', ['old', 'new']],
  ])('%s are legal, go over the network, and end in the computer', (_, ids) => {
    fc.assert(
      fc.property(anySmallBench, (small) => {
        const question = lentQuestion({ ...small, slots: 'two', dock: true, newInDock: true }, { ids })
        for (const plan of findPlans(question)) {
          const { end, stop } = play(plan.actions, beforePlay(question.bench, question.pairs), question.pairs)
          expect(stop?.sentence).toBeUndefined()
          const target = end.bench.drives.find((d) => d.id === 'new')!
          expect([target.place.kind, end.holds.get('drive:new')]).toEqual(['slot', 0])
          if (ids.includes('old'))
            for (const t of transfersOf(plan.actions).filter(
              (one) => one.from.kind === 'drive' && one.from.driveId === 'old',
            ))
              expect([t.by, t.live, t.linkKey.includes('ethernet')]).toEqual(['shop', false, true])
        }
      }),
      { numRuns: runsOf(40, 800) },
    )
  })

  it('are found in both directions', () => {
    const titles = (ids: Lent['ids']) => findPlans(lentQuestion(ALL, { ids })).map((p) => p.title)
    expect(titles(['old'])[0]).toMatch(/^Over the network from Miele e Cera, new drive in the dock/)
    expect(titles(['new'])[0]).toBe('Over the network to Miele e Cera')
    expect(titles(['old', 'new'])[0]).toBe('Over the network, from Miele e Cera to Miele e Cera')
  })

  it('take as long as the link, or the connection as it was measured, has it', () => {
    const [byLink] = findPlans(lentQuestion(ALL, { ids: ['old'] }))
    expect(transfersOf(byLink.actions)[0].timing).toMatchObject({
      copyBytesPerSecond: LINKS['ethernet-1'].bytesPerSecond,
      limitedBy: 'the network to Miele e Cera, 1 Gb Ethernet',
    })
    const [measured] = findPlans(lentQuestion(ALL, { ids: ['old'], bytesPerSecond: 30e6 }))
    const { timing } = transfersOf(measured.actions)[0]
    expect([timing.copyBytesPerSecond, timing.limitedBy]).toEqual([30e6, expect.stringMatching(/as measured$/)])
    // Reading back does not travel.
    expect(timing.checkBytesPerSecond).toBeGreaterThan(200e6)
  })

  it('are none where nothing that copies is in the network, which is said', () => {
    const question = lentQuestion(ALL, { ids: ['old'], isInNetwork: false })
    expect(findPlans(question)).toEqual([])
    expect(obstaclesOf(question).map((o) => o.what)).toContain('The Model old 240 GB over the network')
  })
})
