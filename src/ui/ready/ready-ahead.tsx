'use client'

import type { ReadyItem } from '@/core/ready/port'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { Stage } from '@/ui/frame/stage'
import { Items } from './items'

interface ReadyAheadProps {
  readonly moveId: string
  readonly sentence: string
  readonly items: readonly ReadyItem[]
}

/** The list of a route that is planned, and that this version cannot carry out. */
export function ReadyAhead({ moveId, sentence, items }: ReadyAheadProps) {
  const { act, go, busy } = useAct()
  const { settle } = useActions()
  return (
    <Stage
      heading="This route cannot be carried out yet"
      reason={`${sentence} Nothing was written. What would have to be true is on the list.`}
      next={<NextAction label="Go back to Route" onAct={() => go(`/moves/${moveId}/route`)} disabled={busy} />}
    >
      <Items
        items={items}
        busy={busy}
        onAction={({ id, of }) =>
          id === 'go-to-swap' ? go(`/moves/${moveId}/swap`) : void act(() => settle(moveId, { action: id, of }))
        }
        onGoPast={(item, reason) => void act(() => settle(moveId, { action: 'skip', item, reason }))}
      />
    </Stage>
  )
}
