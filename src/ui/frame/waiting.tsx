'use client'

import { useRouter } from 'next/navigation'
import { STATIONS, type StationId } from '@/core/move/stations'
import { NextAction } from './next-action'
import { Stage } from './stage'

/** A station that cannot be worked at before another one. */
export function Waiting({ moveId, station, first }: { moveId: string; station: StationId; first: StationId }) {
  const router = useRouter()
  const title = (id: StationId) => STATIONS.find((s) => s.id === id)!.title
  return (
    <Stage
      heading={`${title(station)} comes after ${title(first)}`}
      reason={`What happens here rests on what ${title(first)} finds. Nothing is lost by going there first.`}
      next={<NextAction label={`Go to ${title(first)}`} onAct={() => router.push(`/moves/${moveId}/${first}`)} />}
    >
      <div />
    </Stage>
  )
}
