'use client'

import { useState } from 'react'
import { clsx } from 'clsx'
import { Check, Printer } from 'lucide-react'
import { Link } from '@/ui/frame/link'
import type { OnTray } from '@/core/swap/tray'
import { ticked } from '@/core/swap/tray'
import type { SwapStep, Ticks } from '@/core/swap/types'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { Plate, type PlateDrive } from '@/ui/shared/plate'
import { CasePlan } from './case-plan'
import type { PlannedComputer } from './plan-parts'
import { Screws, screwsInWords } from './step-card'

interface SwapView {
  readonly steps: readonly SwapStep[]
  readonly done: number
  readonly canUntick: boolean
  readonly ticks: Ticks
  /** Screws that are out and not in again. */
  readonly tray: readonly OnTray[]
  /** The computer has started from the new drive. */
  readonly started: boolean
  readonly beforeLeg: { readonly number: number; readonly of: number } | null
  readonly computer: PlannedComputer
  readonly tools: readonly string[]
  readonly drives: readonly (PlateDrive & { readonly id: string; readonly here: boolean; readonly role: string })[]
  /** Both drives may be in a computer together. */
  readonly apart: boolean
  readonly target: string
}

/** The hardware, one step at a time or as a whole list. */
export function SwapStation({ moveId, view }: { moveId: string; view: SwapView }) {
  const { act, go, busy } = useAct()
  const { finishStep, tickScrews, untickStep } = useActions()
  const [whole, setWhole] = useState(false)
  const { steps, done, computer, drives, beforeLeg } = view
  const first = steps.filter((s) => !s.afterStart).length
  // What closes the case waits for a start that passed.
  const waits = done >= first && done < steps.length && !view.started
  const step = waits ? undefined : steps[done]
  const { heading, reason } = step ? { heading: step.title, reason: step.how } : wordsOf(view, waits)
  const plates = (here: boolean) =>
    drives.filter((d) => d.here === here).map((d) => <Plate key={d.serial} drive={d} role={d.role} />)
  const out = step ? ticked(step, view.ticks) : { done: 0, of: 0 }
  const tick = (group: number, count: number) => void act(() => tickScrews(moveId, { step: step!.id, group, count }))
  const stateOf = (i: number) => (i < done ? 'done' : i === done && step ? 'now' : 'later')
  return (
    <Stage
      heading={heading}
      reason={step ? undefined : reason}
      tools={
        <>
          {view.canUntick && (
            <Button disabled={busy} onClick={() => void act(() => untickStep(moveId))}>
              Untick the last step
            </Button>
          )}
          <Button aria-pressed={!whole} onClick={() => setWhole(false)}>
            One step
          </Button>
          <Button aria-pressed={whole} onClick={() => setWhole(true)}>
            Whole list
          </Button>
          <Button onClick={() => window.print()} aria-label="Print the list">
            <Printer size={16} aria-hidden />
          </Button>
        </>
      }
      aside={
        <>
          <AsideBlock title={`In the ${computer.name}`}>
            <div className="space-y-3">
              {plates(true)}
              {!drives.some((d) => d.here) && <p className="text-ink-soft">None of the drives of this move.</p>}
            </div>
          </AsideBlock>
          {drives.some((d) => !d.here) && (
            <AsideBlock title="Elsewhere">
              <div className="space-y-3">{plates(false)}</div>
              {drives
                .filter((d) => d.role === 'Old drive' && !d.here)
                .map((d) => (
                  <Link
                    key={d.id}
                    href={`/labels/${d.id}`}
                    className="mt-2 inline-block font-semibold text-sea-4 underline underline-offset-2"
                  >
                    Label for the {d.name}
                  </Link>
                ))}
            </AsideBlock>
          )}
          {view.tray.length > 0 && (
            <AsideBlock title="On the tray">
              <ul className="space-y-1" data-testid="tray">
                {view.tray.map(({ words, count }) => (
                  <li key={words} className="flex justify-between gap-3">
                    <span className="font-mono">{words}</span>
                    <span className="font-mono font-semibold">{count}</span>
                  </li>
                ))}
              </ul>
            </AsideBlock>
          )}
          {!view.apart && (
            <Callout>
              A drive and its copy carry one identity. They must not be in a computer together at a start.
            </Callout>
          )}
          <AsideBlock title="Tools">
            <p>{view.tools.join(', ')}</p>
          </AsideBlock>
        </>
      }
      next={
        step ? (
          <NextAction
            label={
              step.screws && out.done < out.of && out.done === 0
                ? `${out.of === 1 ? 'It is' : `All ${out.of}`} ${step.screws.way}, next`
                : 'Done, next'
            }
            shortcut="Space"
            onAct={() => void act(() => finishStep(moveId, step.id))}
            disabled={busy || (out.done > 0 && out.done < out.of)}
            hint={
              out.done > 0 && out.done < out.of
                ? `${out.done} of ${out.of} screws ${step.screws!.way}`
                : done < first
                  ? `Step ${done + 1} of ${first}`
                  : `Closing, ${done - first + 1} of ${steps.length - first}`
            }
          />
        ) : (
          <NextAction
            label={beforeLeg ? 'Continue to Ready' : view.started ? 'Continue to Handover' : 'Continue to Proof'}
            onAct={() => go(`/moves/${moveId}/${beforeLeg ? 'ready' : view.started ? 'handover' : 'proof'}`)}
            disabled={busy}
            hint={beforeLeg && beforeLeg.of > 1 ? `Leg ${beforeLeg.number} of ${beforeLeg.of} comes next.` : undefined}
          />
        )
      }
    >
      {!whole && (
        <div className="no-print grid gap-6 xl:grid-cols-[minmax(0,1.6fr)_minmax(210px,1fr)]">
          <div className="space-y-4">
            {step && (
              <div className="space-y-4" data-testid="step-how">
                <p className="max-w-[48ch] text-[20px] leading-[1.4]">{step.how}</p>
                <Screws step={step} ticks={view.ticks} state="now" busy={busy} onTick={tick} />
              </div>
            )}
            <CasePlan computer={computer} step={step} />
          </div>
          <ol className="space-y-1.5 pt-1" data-testid="swap-steps">
            {steps.map((s, i) => (
              <li key={s.id}>
                {i === first && i < steps.length && (
                  <p className="mt-3 mb-1.5 border-t border-line pt-3 text-[13px] text-ink-soft">
                    Once it has started from the new drive
                  </p>
                )}
                <span
                  aria-current={i === done && step ? 'step' : undefined}
                  className={clsx('flex gap-3 py-0.5', i < done && 'text-ink-soft', i === done && step && 'font-bold')}
                >
                  <span className={clsx('w-6 text-right font-mono', i === done && step && 'text-magenta')}>
                    {i < done ? <Check size={15} className="ml-auto inline" aria-label="Done" /> : i + 1}
                  </span>
                  {s.short}
                </span>
              </li>
            ))}
          </ol>
        </div>
      )}
      <ol className={clsx('panel divide-y divide-line', !whole && 'hidden print:block')} data-testid="whole-list">
        {steps.map((s, i) => (
          <li
            key={s.id}
            className={clsx('grid grid-cols-[32px_minmax(0,1fr)] gap-x-3 px-[18px] py-3', i < done && 'text-ink-soft')}
          >
            <span className={clsx('text-right font-mono text-[17px]', stateOf(i) === 'now' && 'text-magenta')}>
              {i < done ? <Check size={17} className="ml-auto inline" aria-label="Done" /> : i + 1}
            </span>
            <div className="space-y-2">
              <p className="text-[17px] font-bold">
                {s.title}
                {s.afterStart && <span className="font-normal text-ink-soft">, once it has started</span>}
              </p>
              <p className="max-w-[70ch] text-[15.5px]">{s.how}</p>
              {s.screws && (
                <>
                  <div className="no-print">
                    <Screws step={s} ticks={view.ticks} state={stateOf(i)} busy={busy} onTick={tick} />
                  </div>
                  <p className="hidden font-mono print:block">
                    {s.screws.way === 'out' ? 'Out' : 'In'}: {screwsInWords(s)}
                  </p>
                </>
              )}
            </div>
          </li>
        ))}
      </ol>
    </Stage>
  )
}

function wordsOf(
  { steps, beforeLeg, computer, drives, target, started }: SwapView,
  waits: boolean,
): { heading: string; reason: string } {
  if (beforeLeg) {
    return {
      heading: steps.length === 0 ? 'Nothing has to change places' : 'The drives are in their places',
      reason: 'What has to be true before the copy is in Ready.',
    }
  }
  const old = drives.filter((d) => d.role === 'Old drive')
  const aside = `The ${old[0]?.name ?? 'old drive'} is ${asidePlace(old[0]?.place)}.`
  if (started && !waits)
    return { heading: `The ${computer.name} is whole again`, reason: `${aside} No screw is left over.` }
  return {
    heading: `The ${target} is in the ${computer.name}`,
    reason: `${aside} Nothing has been started yet: that is the trial in Proof.${waits ? ' The case is closed after it.' : ''}`,
  }
}

/** Where the old drive is, as the end of "The drive is …". */
function asidePlace(place: string | undefined): string {
  if (!place) return 'set aside'
  return place.startsWith('on ') ? place : `in the ${place}`
}
