'use client'

import { useRouter } from 'next/navigation'
import { NextAction } from './next-action'
import { Stage } from './stage'

/** A station of a move that was planned, but that this version cannot carry out. */
export function NotYet({ moveId, sentence }: { moveId: string; sentence: string }) {
  const router = useRouter()
  return (
    <Stage
      heading="This way cannot be carried out yet"
      reason={sentence}
      next={<NextAction label="Go back to Route" onAct={() => router.push(`/moves/${moveId}/route`)} />}
    >
      <p className="text-ink-soft">Nothing was written. The drives can be looked into, and another way may be taken.</p>
    </Stage>
  )
}
