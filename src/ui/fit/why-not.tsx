'use client'

import type { FitFails, FitWish } from '@/core/fit/types'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'

interface WhyNotProps {
  readonly result: FitFails
  readonly canUndo: boolean
  readonly onUndo: () => void
  readonly onWish: (wish: FitWish) => void
}

/** Why nothing fits, what would mend it, and the nearest fit that works. */
export function WhyNot({ result, canUndo, onUndo, onWish }: WhyNotProps) {
  const { obstacles, nearest } = result
  return (
    <div className="mb-4 space-y-3" data-testid="why-not">
      {obstacles.map((o) => (
        <Callout key={`${o.code} ${o.partition}`} tone="bad">
          {/* The first one is the heading's own sentence. */}
          {o === obstacles[0] ? o.mend : `${o.sentence} ${o.mend}`}
        </Callout>
      ))}
      <div className="flex flex-wrap items-center gap-2">
        {nearest && (
          <Button onClick={() => onWish(nearest.wish)} data-testid="take-nearest">
            Take the nearest that fits: {nearest.says}
          </Button>
        )}
        {canUndo && <Button onClick={onUndo}>Go back one step</Button>}
      </div>
    </div>
  )
}
