'use client'

import { useState } from 'react'
import { clsx } from 'clsx'
import { ChevronDown } from 'lucide-react'
import { formatRate, formatSize } from '@/core/bytes/size'
import type { Finding } from '@/core/findings'
import type { CourseStop } from '@/core/route/course'
import { formatRange } from '@/core/route/timing'
import type { Plan, Transfer } from '@/core/route/types'
import { lowerFirst } from '@/core/words'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { Facts } from '@/ui/shared/facts'
import { FindingList } from '@/ui/shared/finding-list'
import { type PlanTrouble, TroubleNote } from './trouble-note'
import { Course } from './course'

export interface PlanView extends Omit<Plan, 'actions'> {
  /** Why it is planned only; null for one that can be carried out. */
  readonly notYet: string | null
  readonly stops: readonly CourseStop[]
  readonly legs: readonly Pick<Transfer, 'how' | 'bytes' | 'timing' | 'known' | 'lowSeconds' | 'highSeconds'>[]
}

interface RouteView {
  readonly taken?: string
  /** Something of it was copied, so that it stays. */
  readonly begun: boolean
  readonly plans: readonly PlanView[]
  readonly rule: string
  readonly obstacles: readonly { readonly what: string; readonly why: string }[]
  readonly openings: readonly { readonly thing: string; readonly sentence: string }[]
  /** Why the way that was taken cannot be carried out yet. */
  readonly obstacle?: string
  readonly trouble?: PlanTrouble
  /** Drives that another move has, too, each in a sentence. */
  readonly shared: readonly string[]
  readonly computerName: string
  readonly toVirtualMachine: boolean
  /** One system of a drive moves, and both drives stay in use. */
  readonly alone: boolean
  /** The old drive stays in the computer beside the new one. */
  readonly stays: boolean
  /** What another computer needs to start the system; null where nothing is known to be. */
  readonly needs: { readonly computer: string; readonly findings: readonly Finding[] } | null
}

/** How many kinds of routes are drawn in full; the others show when they are chosen. */
const DRAWN = 3

/** How the bytes get there. */
export function RouteStation({ moveId, view }: { moveId: string; view: RouteView }) {
  const { act, go, busy } = useAct()
  const { takeRoute } = useActions()
  const { plans, taken, begun } = view
  const [chosen, setChosen] = useState(taken ?? plans[0]?.id)
  const plan = plans.find((p) => p.id === chosen) ?? plans[0]
  const next = `/moves/${moveId}/fit`
  if (!plan) {
    return (
      <Stage
        heading="No route works as the bench is now"
        reason={view.obstacles[0] ? `${view.obstacles[0].what}: ${lower(view.obstacles[0].why)}` : undefined}
        next={<NextAction label="Look again" onAct={() => void act(async () => ({ ok: true }))} disabled={busy} />}
      >
        <NotHere view={view} />
      </Stage>
    )
  }
  const groups = grouped(plans)
  const isTaken = taken === plan.id
  const needs = view.needs && <Needs {...view.needs} />
  // What is at hand already is told after the ways.
  const missing = view.needs?.findings.some((f) => f.severity !== 'note') === true
  return (
    <Stage
      {...wordsOf(
        view,
        groups.map((group) => group.filter((one) => one.notYet === null)).filter((g) => g.length > 0),
      )}
      aside={<PlanFacts plan={plan} alone={view.alone} stays={view.stays} />}
      next={
        isTaken || begun ? (
          <NextAction
            label="Continue to Fit"
            onAct={() => go(next)}
            disabled={busy || view.obstacle !== undefined}
            hint={view.obstacle ?? (begun ? 'Bytes have moved by it, so it stays.' : undefined)}
          />
        ) : (
          <NextAction
            label={taken ? 'Use this route instead' : 'Use this route'}
            onAct={() => void act(() => takeRoute(moveId, plan.id), next)}
            disabled={busy}
            hint={plan.notYet ?? (taken ? 'A swap that was begun starts over.' : undefined)}
          />
        )
      }
    >
      {view.trouble && <TroubleNote moveId={moveId} trouble={view.trouble} onInstead={setChosen} />}
      {!view.trouble && view.shared.length > 0 && (
        <div className="mb-4" data-testid="shared-drives">
          <Callout tone="caution">
            {view.shared.map((sentence) => (
              <p key={sentence}>{sentence}</p>
            ))}
          </Callout>
        </div>
      )}
      {view.obstacle && (
        <div className="mb-4">
          <Callout>This route is planned, but cannot be carried out here: {lower(view.obstacle)}</Callout>
        </div>
      )}
      {missing && <div className="mb-4">{needs}</div>}
      <ul className="space-y-3.5" data-testid="plans">
        {groups.map((group, i) => (
          <li key={group[0].title}>
            <PlanGroup
              group={group}
              chosen={plan.id}
              taken={taken}
              drawn={i < DRAWN || group.some((p) => p.id === plan.id)}
              onChoose={setChosen}
            />
          </li>
        ))}
      </ul>
      {needs && !missing && <div className="mt-5">{needs}</div>}
      <p className="mt-3 text-[13px] text-ink-soft">
        <span className="font-semibold">The order:</span> {view.rule}
      </p>
      <NotHere view={view} />
    </Stage>
  )
}

/** Routes of one title stand together, the best of them first. */
function grouped(plans: readonly PlanView[]): PlanView[][] {
  const groups = new Map<string, PlanView[]>()
  for (const plan of plans) groups.set(plan.title, [...(groups.get(plan.title) ?? []), plan])
  return [...groups.values()]
}

const COUNTS = [
  'No route',
  'One route',
  'Two routes',
  'Three routes',
  'Four routes',
  'Five routes',
  'Six routes',
  'Seven routes',
  'Eight routes',
  'Nine routes',
  'Ten routes',
]

/** `possible`: the routes that can be carried out, by their kinds. */
function wordsOf(view: RouteView, possible: readonly (readonly PlanView[])[]): { heading: string; reason: string } {
  const { plans, taken, computerName } = view
  const used = plans.find((p) => p.id === taken)
  if (used) {
    const legs = used.legs.length
    return {
      heading: `It takes ${formatRange(used.lowSeconds, used.highSeconds)}, in ${legs === 1 ? 'one leg' : `${legs} legs`}`,
      reason: `${used.title}. ${used.why}`,
    }
  }
  const kinds = possible.length
  const works = kinds === 1 ? 'works' : 'work'
  const tested = possible.filter((group) => group.some((p) => p.testedInPlace)).length
  const one = plans.find((p) => !p.live) ?? plans[0]
  const extra =
    tested > 0 && tested < kinds
      ? `; ${tested === 1 ? 'one tests' : 'some test'} the new drive in place`
      : `; the first takes ${formatRange(one.lowSeconds, one.highSeconds)}`
  const inside = view.obstacles.find((o) => o.what === 'Both drives inside')
  const outside = view.obstacles.find((o) => o.why.startsWith('No adapter'))
  const reason = outside
    ? `${outside.why} So the bytes go by something in between.`
    : inside
      ? `${inside.why} So one of the two drives has to be outside while copying.`
      : view.toVirtualMachine
        ? `The ${computerName} becomes a virtual machine; its drives are only read.`
        : 'Worked out from what is on the bench and where it sits now.'
  if (kinds === 0) return { heading: 'No route can be carried out yet', reason }
  return { heading: `${COUNTS[kinds] ?? `${kinds} routes`} ${works}${extra}`, reason }
}

interface PlanGroupProps {
  readonly group: readonly PlanView[]
  readonly chosen: string
  readonly taken?: string
  readonly drawn: boolean
  readonly onChoose: (id: string) => void
}

function PlanGroup({ group, chosen, taken, drawn, onChoose }: PlanGroupProps) {
  const [open, setOpen] = useState(false)
  const shown = group.find((p) => p.id === chosen) ?? group[0]
  const others = group.filter((p) => p !== shown)
  const isChosen = shown.id === chosen
  return (
    <section className={clsx('panel p-4', isChosen && 'outline-2 outline-magenta')}>
      <div className="flex flex-wrap items-baseline justify-between gap-x-6 gap-y-1">
        <button
          type="button"
          aria-pressed={isChosen}
          onClick={() => onChoose(shown.id)}
          className="min-w-0 flex-1 basis-72 text-left"
        >
          <span className="text-[16.5px] font-bold">{shown.title}</span>
          {taken === shown.id && <span className="ml-2 font-semibold text-weed">taken</span>}
          <span className="block text-ink-soft">{shown.why}</span>
          {shown.notYet && (
            <span className="mt-0.5 block font-semibold text-ochre-ink">Planned only: {lower(shown.notYet)}</span>
          )}
        </button>
        <p className="sm:text-right">
          <span className="font-mono text-[16px] font-semibold">
            {formatRange(shown.lowSeconds, shown.highSeconds)}
          </span>
          <span className="block text-[13px] text-ink-soft">limited by {shown.limitedBy}</span>
        </p>
      </div>
      {drawn && (
        <div className="mt-3">
          <Course stops={shown.stops} />
        </div>
      )}
      {others.length > 0 && (
        <div className="mt-2">
          <Button small aria-expanded={open} onClick={() => setOpen(!open)}>
            <span className="flex items-center gap-1">
              {others.length === 1 ? 'One more like it' : `${others.length} more like it`}
              <ChevronDown size={14} aria-hidden className={clsx(open && 'rotate-180')} />
            </span>
          </Button>
          {open && (
            <ul className="mt-2 divide-y divide-line">
              {others.map((plan) => (
                <li key={plan.id}>
                  <button
                    type="button"
                    onClick={() => onChoose(plan.id)}
                    className="flex w-full flex-wrap items-baseline justify-between gap-x-4 py-1.5 text-left hover:bg-sunk"
                  >
                    <span className="min-w-0 flex-1 basis-60">{endsOf(plan)}</span>
                    <span className="font-mono text-[13px]">{formatRange(plan.lowSeconds, plan.highSeconds)}</span>
                    <span className="w-24 text-right text-[13px] text-ink-soft">
                      {plan.handSteps} hand {plan.handSteps === 1 ? 'step' : 'steps'}
                    </span>
                  </button>
                </li>
              ))}
            </ul>
          )}
        </div>
      )}
    </section>
  )
}

/** Between which places the bytes of a route move. */
function endsOf({ stops }: PlanView): string {
  return stops
    .flatMap((stop, i) =>
      stop.toNext === 'bytes' ? [`${stop.title} (${stop.sub}) to ${stops[i + 1].title} (${stops[i + 1].sub})`] : [],
    )
    .join(', then ')
}

function PlanFacts({ plan, alone, stays }: { plan: PlanView; alone: boolean; stays: boolean }) {
  const screwsWord =
    plan.openings === 0 ? 'not opened' : plan.openings === 1 ? 'opened once' : `opened ${plan.openings} times`
  return (
    <>
      <AsideBlock title={plan.title}>
        <Facts
          facts={[
            { name: 'Copies', value: plan.legs.length === 1 ? '1 leg' : `${plan.legs.length} legs`, mono: true },
            { name: 'Drives in or out', value: `${plan.handSteps} by hand`, mono: true },
            { name: 'The case', value: screwsWord },
            { name: 'System runs meanwhile', value: plan.live ? 'yes' : 'no', tone: plan.live ? 'caution' : undefined },
            { name: 'New drive tested in place', value: plan.testedInPlace ? 'yes' : 'after the swap' },
          ]}
        />
      </AsideBlock>
      {plan.legs.map((leg, i) => (
        <AsideBlock key={i} title={plan.legs.length > 1 ? `Leg ${i + 1}` : 'The copy'}>
          <Facts
            facts={[
              { name: 'To copy', value: formatSize(leg.bytes), mono: true },
              { name: 'Copying at', value: formatRate(leg.timing.copyBytesPerSecond * leg.known.share), mono: true },
              {
                name: 'Reading back at',
                value: formatRate(leg.timing.checkBytesPerSecond * leg.known.share),
                mono: true,
              },
              { name: 'Time', value: formatRange(leg.lowSeconds, leg.highSeconds), mono: true },
            ]}
          />
          <p className="mt-1.5 text-[13px] text-ink-soft" data-testid="known-from">
            {knownFrom(leg.known)}
          </p>
        </AsideBlock>
      ))}
      <AsideBlock title="What to know">
        <ul className="list-disc space-y-1.5 pl-4 text-[13.5px]">
          {plan.risks.map((risk) => (
            <li key={risk}>{risk}</li>
          ))}
          <li>
            {alone
              ? 'The source is only read, and stays in use where it is.'
              : 'The old drive is only read. It stays the way back until it is erased by hand.'}
          </li>
          {stays && (
            <li>
              It stays in beside the new one, which gets an identity of its own. Its volumes get other drive letters in
              the new system.
            </li>
          )}
        </ul>
      </AsideBlock>
    </>
  )
}

function knownFrom({ copies, share }: PlanView['legs'][number]['known']): string {
  if (copies === 0) return 'No copy went over these links yet; the rates are those of the devices.'
  return `Known from ${copies === 1 ? 'one copy' : `${copies} copies`} over these links, at ${share.toFixed(2)} of what the devices give.`
}

/** What cannot work here and why, and what one more thing would open. */
function NotHere({ view }: { view: RouteView }) {
  if (view.obstacles.length === 0 && view.openings.length === 0) return null
  return (
    <section className="mt-5" data-testid="not-here">
      {view.openings.length > 0 && (
        <>
          <h2 className="mb-1.5 font-bold">With one more thing</h2>
          <ul className="mb-4 space-y-1">
            {view.openings.map(({ thing, sentence }) => (
              <li key={thing}>
                <span className="font-semibold text-sea-4">{thing}</span> {sentence}
              </li>
            ))}
          </ul>
        </>
      )}
      {view.obstacles.length > 0 && (
        <>
          <h2 className="mb-1.5 font-bold">Not here</h2>
          <ul className="space-y-1">
            {view.obstacles.map(({ what, why }) => (
              <li key={`${what} ${why}`}>
                {what}: <span className="text-ink-soft">{lower(why)}</span>
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  )
}

/** A sentence that goes on after a colon; names and abbreviations keep their capitals. */
function lower(text: string): string {
  return /^[A-Z][a-z]/.test(text) ? lowerFirst(text) : text
}

/** What another computer needs to start the system. */
function Needs({ computer, findings }: NonNullable<RouteView['needs']>) {
  return (
    <section className="panel p-4" data-testid="needs">
      <h2 className="mb-2 font-bold">What the {computer} needs</h2>
      <FindingList findings={findings} />
    </section>
  )
}
