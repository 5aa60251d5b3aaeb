'use client'

import { formatRate, formatSize } from '@/core/bytes/size'
import { formatRange, type RouteAnswer } from '@/core/route/route'
import type { Route } from '@/core/route/types'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Facts } from '@/ui/shared/facts'
import { Plate, type PlateDrive } from '@/ui/shared/plate'
import { Course } from './course'

interface RouteView {
  readonly taken: boolean
  readonly found: RouteAnswer
  readonly source: PlateDrive
  readonly target: PlateDrive
  readonly computerName: string
}

/** How the bytes get there. */
export function RouteStation({ moveId, view }: { moveId: string; view: RouteView }) {
  const { act, go, busy } = useAct()
  const { takeRoute } = useActions()
  const { found, source, target } = view
  const next = `/moves/${moveId}/fit`
  if (!found.works) {
    return (
      <Stage
        heading="No way works as the bench is now"
        reason={found.reason}
        next={<NextAction label="Look again" onAct={() => void act(async () => ({ ok: true }))} disabled={busy} />}
      >
        <Plates source={source} target={target} />
      </Stage>
    )
  }
  const { route } = found
  return (
    <Stage
      heading={`It takes ${formatRange(route.leg.lowSeconds, route.leg.highSeconds)}, in one leg`}
      reason={`The ${source.name} is in the ${view.computerName} and the ${target.name} in ${target.place}, so the bytes can go straight across.`}
      aside={<RouteFacts route={route} />}
      next={
        view.taken ? (
          <NextAction label="Go on to Fit" onAct={() => go(next)} disabled={busy} />
        ) : (
          <NextAction label="Take this way" onAct={() => void act(() => takeRoute(moveId), next)} disabled={busy} />
        )
      }
    >
      <section className="panel border-2 border-magenta p-4">
        <div className="mb-2 flex flex-wrap items-baseline justify-between gap-x-6 gap-y-1">
          <h2 className="text-[17px] font-bold">{route.title}</h2>
          <p className="text-right">
            <span className="font-mono text-[16px] font-semibold">
              {formatRange(route.leg.lowSeconds, route.leg.highSeconds)}
            </span>
            <span className="block text-[13px] text-ink-soft">limited by {route.leg.timing.limitedBy}</span>
          </p>
        </div>
        <p className="mb-3 text-ink-soft">{route.why}</p>
        <Course stops={route.stops} />
      </section>
      <section className="mt-5">
        <h2 className="mb-2 font-bold">What to know about it</h2>
        <ul className="list-disc space-y-1 pl-5">
          {route.risks.map((risk) => (
            <li key={risk}>{risk}</li>
          ))}
        </ul>
      </section>
      <div className="mt-5">
        <Plates source={source} target={target} />
      </div>
    </Stage>
  )
}

function RouteFacts({ route }: { route: Route }) {
  const { leg } = route
  const { timing } = leg
  return (
    <>
      <AsideBlock title="This leg">
        <Facts
          facts={[
            { name: 'To copy', value: formatSize(leg.bytes), mono: true },
            { name: 'Copying at', value: formatRate(timing.copyBytesPerSecond), mono: true },
            { name: 'Time to copy', value: minutes(leg.bytes / timing.copyBytesPerSecond), mono: true },
            { name: 'Reading back at', value: formatRate(timing.checkBytesPerSecond), mono: true },
            { name: 'Time to read back', value: minutes(leg.bytes / timing.checkBytesPerSecond), mono: true },
          ]}
        />
      </AsideBlock>
      <AsideBlock title="Undo">
        <p className="text-ink-soft">The old drive is only read. It stays the way back until it is erased by hand.</p>
      </AsideBlock>
    </>
  )
}

function Plates({ source, target }: { source: PlateDrive; target: PlateDrive }) {
  return (
    <div className="grid gap-4 sm:grid-cols-2">
      <Plate drive={source} role="Source" />
      <Plate drive={target} role="Target" />
    </div>
  )
}

function minutes(seconds: number): string {
  return seconds < 90 ? `${Math.round(seconds)} s` : `${(seconds / 60).toFixed(1)} min`
}
