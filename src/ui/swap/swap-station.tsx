'use client'

import { clsx } from 'clsx'
import { Check } from 'lucide-react'
import type { SwapStep } from '@/core/swap/steps'
import type { Chassis } from '@/core/things/chassis'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Callout } from '@/ui/shared/callout'
import { Plate, type PlateDrive } from '@/ui/shared/plate'
import { CasePlan } from './case-plan'

interface SwapView {
  readonly steps: readonly SwapStep[]
  readonly done: number
  readonly beforeLeg: { readonly number: number; readonly of: number } | null
  readonly computer: {
    readonly name: string
    readonly slots: readonly { readonly id: string; readonly holds: string | null }[]
    readonly mains: boolean
    readonly cover: Chassis['cover']
    readonly driveMount: Chassis['driveMount']
  }
  readonly tools: readonly string[]
  readonly drives: readonly (PlateDrive & { readonly here: boolean; readonly role: string })[]
  readonly target: string
}

/** The hardware, one step at a time. */
export function SwapStation({ moveId, view }: { moveId: string; view: SwapView }) {
  const { act, go, busy } = useAct()
  const { finishStep } = useActions()
  const { steps, done, computer, drives, beforeLeg } = view
  const step = steps[done]
  const { heading, reason } = step ? { heading: step.title, reason: step.how } : wordsOf(view)
  const plates = (here: boolean) =>
    drives.filter((d) => d.here === here).map((d) => <Plate key={d.serial} drive={d} role={d.role} />)
  return (
    <Stage
      heading={heading}
      reason={reason}
      aside={
        <>
          <AsideBlock title={`In the ${computer.name}`}>
            <div className="space-y-3">
              {plates(true)}
              {!drives.some((d) => d.here) && <p className="text-ink-soft">None of the drives of this move.</p>}
            </div>
          </AsideBlock>
          <AsideBlock title="Elsewhere">
            <div className="space-y-3">{plates(false)}</div>
          </AsideBlock>
          <Callout>
            A drive and its copy carry one identity. They must not be in a computer together at a start.
          </Callout>
          <AsideBlock title="Tools">
            <p>{view.tools.join(', ')}</p>
          </AsideBlock>
        </>
      }
      next={
        step ? (
          <NextAction
            label="Done, next"
            shortcut="Space"
            onAct={() => void act(() => finishStep(moveId, step.id))}
            disabled={busy}
            hint={`Step ${done + 1} of ${steps.length}`}
          />
        ) : (
          <NextAction
            label={beforeLeg ? 'Go on to Ready' : 'Go on to Proof'}
            onAct={() => go(`/moves/${moveId}/${beforeLeg ? 'ready' : 'proof'}`)}
            disabled={busy}
            hint={beforeLeg && beforeLeg.of > 1 ? `Leg ${beforeLeg.number} of ${beforeLeg.of} comes next.` : undefined}
          />
        )
      }
    >
      <div className="grid gap-6 xl:grid-cols-[minmax(0,1.7fr)_minmax(190px,1fr)]">
        <CasePlan computer={computer} step={step} />
        <ol className="space-y-1.5 pt-1" data-testid="swap-steps">
          {steps.map((s, i) => (
            <li
              key={s.id}
              aria-current={i === done ? 'step' : undefined}
              className={clsx('flex gap-3 py-0.5', i < done && 'text-ink-soft', i === done && 'font-bold')}
            >
              <span className={clsx('w-6 text-right font-mono', i === done && 'text-magenta')}>
                {i < done ? <Check size={15} className="ml-auto inline" aria-label="Done" /> : i + 1}
              </span>
              {s.short}
            </li>
          ))}
        </ol>
      </div>
    </Stage>
  )
}

function wordsOf({ steps, beforeLeg, computer, drives, target }: SwapView): { heading: string; reason: string } {
  if (beforeLeg) {
    return {
      heading: steps.length === 0 ? 'Nothing has to change places' : 'The drives are in their places',
      reason: 'What has to be true before the copy is in Ready.',
    }
  }
  const old = drives.filter((d) => d.role === 'Old drive')
  return {
    heading: `The ${target} is in the ${computer.name}`,
    reason: `The ${old[0]?.name ?? 'old drive'} is ${old[0]?.place ?? 'set aside'}. Nothing has been started yet: that is the trial in Proof.`,
  }
}
