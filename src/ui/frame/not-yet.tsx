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

/** Proof of a computer whose start this version cannot follow. */
export function NotProved({ sentence }: { sentence: string }) {
  return (
    <Stage heading="This start cannot be followed yet" reason={sentence}>
      <p className="text-ink-soft">
        Start the computer and look for yourself. The old drive stays the way back until you know that the new one
        starts.
      </p>
    </Stage>
  )
}
