import { BoxPlan } from './box-plan'
import { LaptopPlan } from './laptop-plan'
import { type PlannedComputer, planOf } from './plan-parts'
import type { SwapStep } from '@/core/swap/types'

interface CasePlanProps {
  readonly computer: PlannedComputer
  readonly step?: SwapStep
}

/** The opened computer, with the part that this step is about in magenta. */
export function CasePlan({ computer, step }: CasePlanProps) {
  const plan = planOf(computer, step)
  const Case = computer.kind === 'laptop' ? LaptopPlan : BoxPlan
  return (
    <figure className="panel p-4">
      <svg
        viewBox="0 0 470 330"
        className="w-full"
        role="img"
        aria-label={`The opened ${computer.name}${step ? `; now: ${step.title}` : ''}`}
      >
        <Case {...plan} />
        <text x="28" y="318" fontSize="12.5" fill="var(--ink-soft)">
          {plan.caption}
        </text>
      </svg>
    </figure>
  )
}
