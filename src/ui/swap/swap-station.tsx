'use client'

import { clsx } from 'clsx'
import { Check } from 'lucide-react'
import type { Chassis, SwapStep } from '@/core/swap/steps'
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
  readonly computer: {
    readonly name: string
    readonly model: string
    readonly slots: readonly string[]
    readonly homeSlot: string
    readonly mains: boolean
    readonly running: string
    readonly cover: Chassis['cover']
    readonly driveMount: Chassis['driveMount']
  }
  readonly tools: readonly string[]
  readonly source: PlateDrive & { readonly inComputer: boolean }
  readonly target: PlateDrive & { readonly inComputer: boolean }
}

/** The hardware, one step at a time. */
export function SwapStation({ moveId, view }: { moveId: string; view: SwapView }) {
  const { act, go, busy } = useAct()
  const { finishStep } = useActions()
  const { steps, done, computer, source, target } = view
  const step = steps[done]
  const proof = `/moves/${moveId}/proof`
  return (
    <Stage
      heading={step ? step.title : `The ${target.name} is in the ${computer.name}`}
      reason={
        step
          ? step.how
          : `The ${source.name} is ${source.place}. Nothing has been started yet: that is the trial in Proof.`
      }
      aside={
        <>
          <AsideBlock title={`In the ${computer.name}`}>
            <div className="space-y-3">
              {[source, target]
                .filter((d) => d.inComputer)
                .map((d) => (
                  <Plate key={d.serial} drive={d} role={d === source ? 'Old drive' : 'New drive'} />
                ))}
              {!source.inComputer && !target.inComputer && <p className="text-ink-soft">Neither of the two drives.</p>}
            </div>
          </AsideBlock>
          <AsideBlock title="Outside">
            <div className="space-y-3">
              {[source, target]
                .filter((d) => !d.inComputer)
                .map((d) => (
                  <Plate key={d.serial} drive={d} role={d === source ? 'Old drive' : 'New drive'} />
                ))}
            </div>
          </AsideBlock>
          <Callout>Both carry one identity. They must not be in the {computer.name} together at a start.</Callout>
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
          <NextAction label="Go on to Proof" onAct={() => go(proof)} disabled={busy} />
        )
      }
    >
      <div className="grid gap-6 xl:grid-cols-[minmax(0,1.7fr)_minmax(190px,1fr)]">
        <CasePlan
          computer={computer}
          step={step}
          sourceIn={source.inComputer}
          targetIn={target.inComputer}
          sourceName={source.name}
          targetName={target.name}
        />
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
