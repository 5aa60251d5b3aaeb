'use client'

import { formatSize } from '@/core/bytes/size'
import type { VolumeGives } from '@/core/fit/gives'
import type { FitFails, FitWish } from '@/core/fit/types'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'

interface WhyNotProps {
  readonly result: FitFails
  /** Every volume with what it could give. */
  readonly gives: readonly VolumeGives[]
  readonly canUndo: boolean
  readonly onUndo: () => void
  readonly onWish: (wish: FitWish) => void
}

/** Why nothing fits, what would mend it, and the nearest fit that works. */
export function WhyNot({ result, gives, canUndo, onUndo, onWish }: WhyNotProps) {
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
      <Gives gives={gives} onWish={onWish} />
    </div>
  )
}

/** Where room could come from: every volume, what it could give, why not more, and one click for each way out. */
function Gives({ gives, onWish }: Pick<WhyNotProps, 'gives' | 'onWish'>) {
  return (
    <section>
      <h2 className="mb-2 font-bold">Where room could come from</h2>
      <ul className="panel divide-y divide-line" data-testid="gives">
        {gives.map(({ number, title, sizeBytes, takesBytes, givesBytes, why, waysOut }) => (
          <li
            key={number}
            className="grid items-center gap-x-4 gap-y-1.5 px-[18px] py-2.5 md:grid-cols-[minmax(0,1fr)_auto]"
          >
            <div className="min-w-0">
              <p className="flex flex-wrap items-baseline gap-x-3">
                <span className="font-semibold">{title}</span>
                <span className="font-mono text-[12.5px] text-ink-soft">
                  {takesBytes === 0 ? `left out, ${formatSize(sizeBytes)}` : `takes ${formatSize(takesBytes)}`}
                </span>
                {givesBytes > 0 && (
                  <span className="font-mono text-[12.5px] font-semibold text-sea-4">
                    could give {formatSize(givesBytes)}
                  </span>
                )}
              </p>
              <p className="text-[13px] text-ink-soft">{why}</p>
            </div>
            <div className="flex flex-wrap gap-2 md:justify-end">
              {waysOut.map((way) => (
                <Button key={way.id} small onClick={() => onWish(way.wish)}>
                  {way.label}
                  {way.fits && <span className="ml-1.5 font-semibold text-weed">fits</span>}
                  <span className="sr-only">: {title}</span>
                </Button>
              ))}
            </div>
          </li>
        ))}
      </ul>
    </section>
  )
}
