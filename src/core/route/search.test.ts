import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { berthsOf, driveIn } from '../things/bench'
import { whyNotInto } from '../things/bodies'
import { handsOf, transfersOf } from './measure'
import { beforePlay, play, type Played } from './play'
import type { RouteQuestion } from './question'
import { findPlans } from './search'
import { anySmallBench, smallQuestion, type SmallBench } from './testing'
import type { Action, Plan } from './types'
import { runsOf } from '../testing'

const FULL: SmallBench = {
  slots: 'two',
  dock: true,
  cable: true,
  stick: 'signed',
  host: true,
  transfer: true,
  startsFromUsb: true,
  newInDock: true,
  running: 'system',
}

const titles = (small: Partial<SmallBench>) => findPlans(smallQuestion({ ...FULL, ...small })).map((p) => p.title)

/** Plays a plan to its end; fails when a step is not legal. */
function played(question: RouteQuestion, plan: Plan): Played {
  const { end, stop } = play(plan.actions, beforePlay(question.bench, question.pairs), question.pairs)
  expect(stop, `${plan.id}: ${stop && `${JSON.stringify(plan.actions[stop.at])}: ${stop.sentence}`}`).toBeUndefined()
  return end
}

describe('plans', () => {
  it('are legal step by step, and end with the system on its target where it will live', () => {
    fc.assert(
      fc.property(anySmallBench, (small) => {
        const question = smallQuestion(small)
        for (const plan of findPlans(question)) {
          const { bench, holds } = played(question, plan)
          const target = bench.drives.find((d) => d.id === 'new')!
          expect(target.place).toMatchObject({ kind: 'slot', computerId: 'desk' })
          expect(holds.get('drive:new')).toBe(0)
          expect(bench.computers[0].running).toBe('system')
          expect(bench.computers[0].firmware.secureBoot).toBe(question.bench.computers[0].firmware.secureBoot)
          const old = bench.drives.find((d) => d.id === 'old')!
          expect(old.place.kind).not.toBe('slot')
        }
      }),
      { numRuns: runsOf(80, 3000) },
    )
  })

  it('leave an old drive where it is that stays, or that is built in', () => {
    fc.assert(
      fc.property(anySmallBench, fc.boolean(), (small, soldered) => {
        const base = smallQuestion({ ...small, slots: 'two' })
        const built = { body: { form: 'built-in' as const }, protocol: 'eMMC' as const }
        const board = { takes: [{ form: 'built-in' as const }], speaks: [{ protocol: 'eMMC', link: 'emmc-hs400' }] }
        const question = {
          ...base,
          bench: {
            ...base.bench,
            drives: base.bench.drives.map((d) => (soldered && d.id === 'old' ? { ...d, ...built } : d)),
            computers: base.bench.computers.map((c) => ({
              ...c,
              slots: c.slots.map((s) => (soldered && s.id === 'S0' ? { ...s, ...board } : s)),
            })),
          },
          pairs: base.pairs.map((p) => ({ ...p, stays: true })),
        } as RouteQuestion
        for (const plan of findPlans(question)) {
          const { bench } = played(question, plan)
          const place = (id: string) => bench.drives.find((d) => d.id === id)!.place
          expect([place('old'), place('new')]).toMatchObject([{ slot: 'S0' }, { slot: 'S1' }])
          expect(bench.computers[0].running).toBe('system')
          const moved = plan.actions.filter((a) => a.do === 'take' && a.driveId === 'old')
          if (soldered) expect(moved).toEqual([])
        }
      }),
      { numRuns: runsOf(40, 1000) },
    )
    expect(
      findPlans({ ...smallQuestion(FULL), pairs: [{ ...smallQuestion(FULL).pairs[0], stays: true }] }),
    ).not.toEqual([])
  })

  it('take an original out of the computer before it starts with what an image of it became', () => {
    fc.assert(
      fc.property(anySmallBench, (small) => {
        const base = smallQuestion({ ...small, running: 'off' })
        const original = base.bench.drives.find((d) => d.id === 'old')!
        // The image of it is a drive that lies on the table.
        const image = { ...original, id: 'image', place: { kind: 'table' as const } }
        const question: RouteQuestion = {
          ...base,
          bench: { ...base.bench, drives: [...base.bench.drives, image] },
          pairs: [{ ...base.pairs[0], sourceId: 'image' }],
          twins: { old: 0 },
        }
        for (const plan of findPlans(question)) {
          const { bench } = played(question, plan)
          const inside = bench.drives.filter((d) => d.place.kind === 'slot').map((d) => d.id)
          expect(inside, plan.id).toEqual(['new'])
          const starts = plan.actions.findIndex((a) => a.do === 'start')
          const out = plan.actions.findIndex((a) => a.do === 'take' && a.driveId === 'old')
          if (starts >= 0) expect(out, plan.id).toBeGreaterThanOrEqual(0)
        }
      }),
      { numRuns: runsOf(40, 1000) },
    )
    const full = smallQuestion({ ...FULL, running: 'off' })
    const image = { ...full.bench.drives.find((d) => d.id === 'old')!, id: 'image', place: { kind: 'table' as const } }
    const question = {
      ...full,
      bench: { ...full.bench, drives: [...full.bench.drives, image] },
      pairs: [{ ...full.pairs[0], sourceId: 'image' }],
      twins: { old: 0 },
    }
    expect(findPlans(question).length).toBeGreaterThan(0)
  })

  it('never become more when a thing is taken away', () => {
    fc.assert(
      fc.property(anySmallBench, fc.nat(9), (small, which) => {
        const question = smallQuestion(small)
        const { accessories } = question.bench
        if (accessories.length === 0) return
        const removed = accessories[which % accessories.length]
        const less = { ...question.bench, accessories: accessories.filter((a) => a !== removed) }
        // A drive that sat in it is loose then.
        const drives = less.drives.map((d) =>
          d.place.kind === 'bay' && d.place.accessoryId === removed.id
            ? { ...d, place: { kind: 'table' as const } }
            : d,
        )
        const before = new Set(findPlans(question).map((p) => p.id))
        for (const plan of findPlans({ ...question, bench: { ...less, drives } })) expect(before).toContain(plan.id)
      }),
      { numRuns: runsOf(80, 3000) },
    )
  })

  it('are the same for the same question, whatever order its things are listed in', () => {
    fc.assert(
      fc.property(anySmallBench, (small) => {
        const question = smallQuestion(small)
        const { bench } = question
        const turned = { ...bench, accessories: [...bench.accessories].reverse(), drives: [...bench.drives].reverse() }
        const plans = findPlans(question)
        expect(findPlans(question)).toEqual(plans)
        expect(findPlans({ ...question, bench: turned }).map((p) => p.id)).toEqual(plans.map((p) => p.id))
      }),
      { numRuns: 60 },
    )
  })

  it('ask no more of the hands than the fewest steps there can be, found by trying every single step', () => {
    fc.assert(
      fc.property(anySmallBench, (small) => {
        const question = smallQuestion(small)
        const plans = findPlans(question)
        for (const [key, fewest] of everySingleStep(question)) {
          const alike = plans.filter((p) => directKey(p.actions) === key)
          // A route that the search leaves out is one that another makes needless.
          for (const plan of alike) expect([key, plan.handSteps]).toEqual([key, fewest])
          if (alike.length === 0) expect(plans.some((p) => p.handSteps <= fewest)).toBe(true)
        }
      }),
      { numRuns: runsOf(40, 800) },
    )
  }, 60_000)

  it('come out of the bench: both inside, one outside, the new one in first, at a host, live', () => {
    expect(titles({ transfer: false })).toEqual(
      expect.arrayContaining([
        'Both drives inside',
        'New drive outside, swap after',
        'New drive in first, old one outside',
        'Both drives outside, at the host',
        'New drive outside, swap after, while it runs',
        'By an image on the host',
      ]),
    )
    expect(titles({ slots: 'one' })).not.toContain('Both drives inside')
  })

  it('go in two legs where no adapter takes the drive, over a third drive or by an image', () => {
    const plans = findPlans(smallQuestion({ ...FULL, slots: 'blade' }))
    expect(plans.every((p) => transfersOf(p.actions).length === 2)).toBe(true)
    expect(plans.map((p) => p.title)).toEqual(
      expect.arrayContaining([
        'Two legs over the Model carrier 4 TB',
        'By an image on the Model carrier 4 TB',
        'By an image on the host',
      ]),
    )
    expect(titles({ slots: 'blade', transfer: false, host: false })).toEqual([])
  })

  it('turn Secure Boot off for a stick it does not accept, and on again before the first start', () => {
    const plans = findPlans(smallQuestion({ ...FULL, stick: 'unsigned', host: false }))
    const plan = plans.find((p) => !p.live)!
    const settings = plan.actions.filter((a) => a.do === 'secure-boot').map((a) => a.on)
    expect(settings).toEqual([false, true])
    expect(plan.risks.join(' ')).toMatch(/Secure Boot has to be turned off/)
  })

  it('are put in order by the rule: fewer copies first, what runs later, then time with the hands', () => {
    const plans = findPlans(smallQuestion(FULL))
    const legs = plans.map((p) => transfersOf(p.actions).length)
    expect(legs).toEqual([...legs].sort((a, b) => a - b))
    const direct = plans.filter((p) => transfersOf(p.actions).length === 1).map((p) => p.live)
    expect(direct).toEqual([...direct].sort((a, b) => Number(a) - Number(b)))
    const laptop = smallQuestion({ ...FULL, slots: 'one', host: false })
    const [desk] = laptop.bench.computers
    const small = { ...laptop.bench, computers: [{ ...desk, chassis: { ...desk.chassis, kind: 'laptop' as const } }] }
    expect(findPlans(laptop)[0].testedInPlace).toBe(false)
    expect(findPlans({ ...laptop, bench: small })[0].testedInPlace).toBe(true)
  })

  it('leave drives alone that another move rests on', () => {
    const question = smallQuestion({ ...FULL, slots: 'blade', host: false })
    expect(findPlans({ ...question, claimedDrives: ['carrier'] })).toEqual([])
  })

  it('take longer by what earlier copies over the same links did', () => {
    const question = smallQuestion(FULL)
    const [plan] = findPlans(question)
    const [transfer] = transfersOf(plan.actions)
    const slow = findPlans({ ...question, past: { [transfer.linkKey]: { copies: 3, share: 0.5 } } })
    const same = slow.find((p) => p.id === plan.id)!
    expect(same.lowSeconds).toBeCloseTo(2 * plan.lowSeconds, 6)
    expect(transfersOf(same.actions)[0].known).toEqual({ copies: 3, share: 0.5 })
  })
})

describe('further drives', () => {
  const question = (): RouteQuestion => {
    const base = smallQuestion({ ...FULL, transfer: false })
    const [old, fresh] = base.bench.drives
    const data = [
      {
        ...old,
        id: 'data',
        model: 'Data',
        serial: 'SER-DATA-0001',
        place: { kind: 'slot', computerId: 'desk', slot: 'S1' } as const,
      },
      { ...fresh, id: 'data-new', model: 'Data new', serial: 'SER-DATA-0002', place: { kind: 'table' } as const },
    ]
    return {
      ...base,
      bench: { ...base.bench, drives: [...base.bench.drives, ...data] },
      pairs: [...base.pairs, { sourceId: 'data', targetId: 'data-new', bytes: 2 ** 36, imagesAt: [] }],
    }
  }

  it('are legs of the same plan, each with a target of its own', () => {
    const asked = question()
    const plans = findPlans(asked)
    expect(plans.length).toBeGreaterThan(0)
    for (const plan of plans) {
      const { bench, holds } = played(asked, plan)
      expect([holds.get('drive:new'), holds.get('drive:data-new')]).toEqual([0, 1])
      for (const id of ['new', 'data-new']) expect(bench.drives.find((d) => d.id === id)!.place.kind).toBe('slot')
      expect(new Set(transfersOf(plan.actions).map((t) => t.pair))).toEqual(new Set([0, 1]))
    }
  })
})

/** The transfers of a plan of one leg, as the search by single steps names them. */
function directKey(actions: readonly Action[]): string {
  const transfers = transfersOf(actions)
  if (transfers.length !== 1 || transfers[0].live || transfers[0].how !== 'copy') return ''
  const [{ from, to, by }] = transfers
  const owner = (h: typeof from) =>
    h.kind === 'drive' && h.place.kind === 'slot'
      ? h.place.computerId
      : h.kind === 'drive' && h.place.kind === 'bay'
        ? h.place.accessoryId
        : ''
  return `${owner(from)} ${owner(to)} ${by}`
}

/**
 * The fewest steps of the hands for every route of one offline copy by the computer itself, found without any
 * cleverness: breadth first over single steps, taking one drive out or putting one in.
 */
function everySingleStep(question: RouteQuestion): Map<string, number> {
  const [desk] = question.bench.computers
  const usesStick = question.bench.accessories.some((a) => a.kind === 'stick') && desk.firmware.startsFromUsb
  const fewest = new Map<string, number>()
  if (!usesStick) return fewest
  const ids = ['old', 'new']
  const start = question.bench
  const key = (bench: typeof start, copied: string) =>
    `${ids.map((id) => JSON.stringify(bench.drives.find((d) => d.id === id)!.place)).join()}|${copied}`
  let layer: { bench: typeof start; copied: string }[] = [{ bench: start, copied: '' }]
  const seen = new Set(layer.map((s) => key(s.bench, s.copied)))
  for (let steps = 0; layer.length > 0 && steps < 9; steps++) {
    // What costs no step of the hands is done wherever it can be.
    for (const state of [...layer]) {
      const [old, fresh] = ids.map((id) => state.bench.drives.find((d) => d.id === id)!.place)
      if (state.copied === '') {
        const reach = (p: typeof old) => p.kind === 'slot' || p.kind === 'bay'
        if (!reach(old) || !reach(fresh)) continue
        const owner = (p: typeof old) => (p.kind === 'slot' ? p.computerId : p.kind === 'bay' ? p.accessoryId : '')
        const copied = `${owner(old)} ${owner(fresh)} desk`
        if (!seen.has(key(state.bench, copied))) {
          seen.add(key(state.bench, copied))
          layer.push({ bench: state.bench, copied })
        }
      }
    }
    for (const { bench, copied } of layer) {
      const [old, fresh] = ids.map((id) => bench.drives.find((d) => d.id === id)!.place)
      if (copied !== '' && fresh.kind === 'slot' && old.kind !== 'slot' && !fewest.has(copied))
        fewest.set(copied, steps)
    }
    const next: typeof layer = []
    for (const { bench, copied } of layer) {
      for (const id of ids) {
        const drive = bench.drives.find((d) => d.id === id)!
        const places =
          drive.place.kind === 'table'
            ? berthsOf(bench)
                .filter(({ berth, slot }) => !whyNotInto(drive, slot, 0) && !driveIn(bench, berth))
                .map(({ berth }) => berth)
            : [{ kind: 'table' as const }]
        for (const place of places) {
          const moved = { ...bench, drives: bench.drives.map((d) => (d.id === id ? { ...d, place } : d)) }
          if (seen.has(key(moved, copied))) continue
          seen.add(key(moved, copied))
          next.push({ bench: moved, copied })
        }
      }
    }
    layer = next
  }
  return fewest
}

describe('the steps of a plan', () => {
  it('are counted as they are', () => {
    for (const plan of findPlans(smallQuestion(FULL))) expect(plan.handSteps).toBe(handsOf(plan.actions))
  })
})
