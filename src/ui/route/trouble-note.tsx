'use client'

import { Link } from '@/ui/frame/link'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'

/** What stands in the way of the plan that was taken. */
export interface PlanTrouble {
  readonly stops: boolean
  readonly sentence: string
  readonly putBack: string | null
  readonly instead: { readonly id: string; readonly title: string; readonly time: string } | null
}

interface TroubleNoteProps {
  readonly moveId: string
  readonly trouble: PlanTrouble
  /** Chooses the nearest plan that works; absent on pages where there is nothing to choose. */
  readonly onInstead?: (id: string) => void
}

/** Says that the plan does not work any more, or clashes with another move's, and what to do. */
export function TroubleNote({ moveId, trouble, onInstead }: TroubleNoteProps) {
  const { stops, sentence, putBack, instead } = trouble
  return (
    <div className="mb-4" data-testid="plan-trouble">
      <Callout tone={stops ? 'bad' : 'caution'}>
        <p>
          <span className="font-semibold">
            {stops ? 'The route does not work any more.' : 'Two moves want the same.'}
          </span>{' '}
          {sentence} {stops && 'Nothing was changed.'}
        </p>
        {stops && (
          <p className="mt-1 flex flex-wrap items-center gap-x-2 gap-y-1">
            {putBack && <span className="font-semibold">Put {putBack} again, and it goes on.</span>}
            {instead
              ? `${putBack ? 'Or take the nearest that works' : 'The nearest that works'}: ${instead.title}, ${instead.time}.`
              : !putBack && 'Put it back, or look for another route.'}
            {instead && onInstead ? (
              <Button small onClick={() => onInstead(instead.id)}>
                Show it
              </Button>
            ) : (
              !onInstead && (
                <Link href={`/moves/${moveId}/route`} className="font-semibold underline">
                  Go to Route
                </Link>
              )
            )}
          </p>
        )}
      </Callout>
    </div>
  )
}
