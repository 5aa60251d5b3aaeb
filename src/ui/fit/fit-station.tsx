'use client'

import { type ReactNode, useMemo, useState } from 'react'
import { clsx } from 'clsx'
import { formatSize } from '@/core/bytes/size'
import { defaultWish, solveFit } from '@/core/fit/solve'
import type { FitResult, FitWish } from '@/core/fit/types'
import { formatRange } from '@/core/route/timing'
import type { Transfer } from '@/core/route/types'
import type { DriveSurvey } from '@/core/survey/types'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { Facts } from '@/ui/shared/facts'
import { PairTabs } from '@/ui/shared/pair-tabs'
import type { PlateDrive } from '@/ui/shared/plate'
import { FitChart } from './fit-chart'
import { FitTable } from './fit-table'
import { SelectedVolume } from './selected-volume'

interface FitPair {
  readonly index: number
  readonly source: PlateDrive & { readonly model: string }
  readonly target: PlateDrive & { readonly model: string }
  readonly sourceSurvey: DriveSurvey
  readonly targetSurvey: DriveSurvey
  readonly locked: { readonly wish: FitWish; readonly at: string } | null
  readonly leg: Pick<Transfer, 'bytes' | 'timing' | 'lowSeconds' | 'highSeconds'>
}

interface FitView {
  readonly pairs: readonly FitPair[]
  readonly copied: boolean
}

/** Where everything goes on the targets, one drive after the other. */
export function FitStation({ moveId, view }: { moveId: string; view: FitView }) {
  const { pairs } = view
  const open = pairs.findIndex((p) => !p.locked)
  const [shown, setShown] = useState(Math.max(0, open))
  const tabs = (
    <PairTabs
      label="Drive that is laid out"
      names={pairs.map((p) => p.source.name)}
      notes={pairs.map((p) => (p.locked ? 'locked' : 'to be locked'))}
      selected={shown}
      onSelect={setShown}
    />
  )
  const further = pairs.findIndex((p, i) => i !== shown && !p.locked)
  return (
    <FitOfPair
      key={shown}
      moveId={moveId}
      view={{ ...pairs[shown], copied: view.copied }}
      tabs={tabs}
      onLocked={further < 0 ? undefined : () => setShown(further)}
    />
  )
}

interface FitOfPairProps {
  readonly moveId: string
  readonly view: FitPair & { readonly copied: boolean }
  readonly tabs: ReactNode
  /** Goes on to the next drive that is not locked; absent when this is the last one. */
  readonly onLocked?: () => void
}

/** Solved in the browser at each change, and once more by the server when locked. */
function FitOfPair({ moveId, view, tabs, onLocked }: FitOfPairProps) {
  const { act, go, busy } = useAct()
  const { lockFit, unlockFit } = useActions()
  const { sourceSurvey, targetSurvey, locked } = view
  const [changed, setWish] = useState<FitWish>(() => defaultWish(sourceSurvey))
  const wish = locked?.wish ?? changed
  const result = useMemo(() => solveFit(sourceSurvey, targetSurvey, wish), [sourceSurvey, targetSurvey, wish])
  const first = sourceSurvey.partitions.find((p) => wish.rules[p.number] === 'fill') ?? sourceSurvey.partitions[0]
  const [selected, setSelected] = useState(String(first?.number ?? ''))
  const ready = `/moves/${moveId}/ready`
  const layout = result.fits ? result.layout : undefined
  const original = sourceSurvey.partitions.find((p) => String(p.number) === selected)
  const { heading, reason } = wordsOf(result)
  const lock = async () => {
    const done = await act(() => lockFit(moveId, wish, view.index), onLocked ? undefined : ready)
    if (done) onLocked?.()
  }
  return (
    <Stage
      heading={heading}
      reason={reason}
      tools={
        locked && !view.copied ? (
          <Button onClick={() => void act(() => unlockFit(moveId))} disabled={busy}>
            Change it
          </Button>
        ) : undefined
      }
      aside={
        <>
          {original && (
            <SelectedVolume
              original={original}
              partition={layout?.partitions.find((p) => p.number === original.number)}
              layout={layout}
              wish={wish}
              locked={locked !== null}
              onWish={setWish}
            />
          )}
          <Reserve wish={wish} locked={locked !== null} onWish={setWish} />
          <AsideBlock title="This copy">
            <Facts
              facts={[
                { name: 'To copy', value: formatSize(view.leg.bytes), mono: true },
                { name: 'Limited by', value: view.leg.timing.limitedBy },
                { name: 'Time', value: formatRange(view.leg.lowSeconds, view.leg.highSeconds), mono: true },
              ]}
            />
          </AsideBlock>
        </>
      }
      next={
        locked ? (
          <NextAction
            label={onLocked ? 'Go on to the next drive' : 'Go on to Ready'}
            onAct={() => (onLocked ? onLocked() : go(ready))}
            disabled={busy}
            hint={`Locked ${locked.at}. This is what will be written.`}
          />
        ) : (
          <NextAction label="Lock this fit" onAct={() => void lock()} disabled={busy || !result.fits} />
        )
      }
    >
      {tabs}
      {layout ? (
        <>
          <FitChart
            layout={layout}
            source={view.source}
            target={view.target}
            selected={selected}
            onSelect={setSelected}
            held={targetSurvey}
          />
          <FitTable layout={layout} selected={selected} onSelect={setSelected} />
        </>
      ) : (
        <div className="space-y-3">
          {!result.fits && <Callout tone="bad">{result.obstacles[0].mend}</Callout>}
          {!locked && <Button onClick={() => setWish(defaultWish(sourceSurvey))}>Begin again with what fits</Button>}
        </div>
      )}
    </Stage>
  )
}

function wordsOf(result: FitResult): { heading: string; reason: string } {
  if (result.fits) return { heading: result.headline, reason: result.reason }
  const [{ missingBytes, sentence }] = result.obstacles
  return {
    heading: missingBytes ? `It misses by ${formatSize(missingBytes)}` : 'It cannot be laid out',
    reason: sentence,
  }
}

const RESERVES = [0, 0.05, 0.1, 0.2]

/** Room left unallocated at the end, which gives an SSD more to work with. */
function Reserve({ wish, locked, onWish }: { wish: FitWish; locked: boolean; onWish: (wish: FitWish) => void }) {
  return (
    <AsideBlock title="Leave unallocated">
      <div
        role="radiogroup"
        aria-label="Leave unallocated"
        className="grid grid-cols-4 divide-x divide-line overflow-hidden rounded-md border border-line-strong"
      >
        {RESERVES.map((reserve) => (
          <button
            key={reserve}
            type="button"
            role="radio"
            aria-checked={wish.reserve === reserve}
            disabled={locked}
            onClick={() => onWish({ ...wish, reserve })}
            className={clsx('py-1 font-mono', wish.reserve === reserve ? 'bg-ink text-paper' : 'text-ink-soft')}
          >
            {reserve * 100} %
          </button>
        ))}
      </div>
    </AsideBlock>
  )
}
