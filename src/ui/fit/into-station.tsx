'use client'

import { useMemo, useState } from 'react'
import { clsx } from 'clsx'
import { formatSize } from '@/core/bytes/size'
import { canBeCalled } from '@/core/filesystem/label-rule'
import { type Into, type IntoPlace, likeliestPlace, placesFor, solveInto } from '@/core/fit/into'
import type { FitWish } from '@/core/fit/types'
import type { DriveSurvey } from '@/core/survey/types'
import { useActions } from '@/ui/frame/actions'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { Facts } from '@/ui/shared/facts'
import { type FitOfPairProps, Next, Stale, ThisCopy, wordsOf } from './fit-frame'
import { IntoChart } from './into-chart'
import { MakeRoom } from './make-room'
import { LabelField } from './selected-volume'

interface IntoFitProps extends FitOfPairProps {
  readonly volume: number
  readonly targetSurvey: DriveSurvey
}

/** Where one system of a drive goes on a drive that keeps everything else. */
export function IntoFit({ moveId, pair, view, acting, volume, targetSurvey }: IntoFitProps) {
  const { act, go, busy } = acting
  const { lockFit, unlockFit } = useActions()
  const { sourceSurvey, locked } = pair
  const places = useMemo(() => placesFor(sourceSurvey, targetSurvey, volume), [sourceSurvey, targetSurvey, volume])
  const [chosen, setChosen] = useState<Into | undefined>(() => (likeliestPlace(places) ?? places.at(0))?.into)
  const [label, setLabel] = useState<string>()
  const wish = useMemo<FitWish>(
    () =>
      locked?.wish ?? {
        ...{ rules: {}, sizes: {}, reserve: 0, into: chosen },
        ...(label === undefined ? {} : { labels: { [volume]: label } }),
      },
    [locked, chosen, label, volume],
  )
  const result = useMemo(
    () => solveInto(sourceSurvey, targetSurvey, volume, wish),
    [sourceSurvey, targetSurvey, volume, wish],
  )
  const layout = result.fits ? result.layout : undefined
  const canChange = !locked && !view.copied
  const moved = sourceSurvey.partitions.find((p) => p.number === volume)
  const { heading, reason } = wordsOf(result)
  const ready = `/moves/${moveId}/ready`
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
          <AsideBlock title="What moves">
            <p className="mb-3 text-[19px] font-bold">
              {moved?.title}{' '}
              {moved?.volume && (
                <span className="rounded border border-sea-4 px-1.5 align-middle font-mono text-xs text-sea-4">
                  {moved.volume.name}
                </span>
              )}
            </p>
            {moved?.volume && canBeCalled(moved.volume.kind) && (
              <LabelField
                kind={moved.volume.kind}
                label={wish.labels?.[volume] ?? moved.volume.label}
                locked={!canChange}
                onLabel={setLabel}
              />
            )}
            <Facts
              facts={[
                ...(moved?.system ? [{ name: 'System', value: moved.system.name }] : []),
                { name: 'Size now', value: formatSize(moved?.sizeBytes ?? 0), mono: true },
                ...(layout ? [{ name: 'Size after', value: sizeAfter(layout), mono: true }] : []),
                ...(layout ? [{ name: 'Becomes', value: `partition ${layout.partitions[0].number}` }] : []),
              ]}
            />
          </AsideBlock>
          <ThisCopy pair={pair} tried={false} />
        </>
      }
      next={
        <Next
          locked={locked}
          canLock={result.fits && !busy && !view.stale}
          busy={busy}
          obstacle={view.obstacle}
          candidate={undefined}
          more={false}
          onGo={() => go(ready)}
          onLock={() => void act(() => lockFit(moveId, { wish, pair: pair.index }), view.obstacle ? undefined : ready)}
          onTake={() => {}}
        />
      }
    >
      <Stale moveId={moveId} acting={acting} stale={view.stale} />
      {!result.fits && (
        <div className="mb-4" data-testid="why-not">
          <Callout tone="bad">{result.obstacles[0].mend}</Callout>
        </div>
      )}
      <IntoChart
        source={pair.source}
        target={pair.target!}
        sourceSurvey={sourceSurvey}
        targetSurvey={targetSurvey}
        volume={volume}
        layout={layout}
        places={places}
        onPlace={(to) => canChange && setChosen(to.into)}
      />
      <Places places={places} chosen={wish.into} locked={!canChange} onChoose={setChosen} />
      {canChange && moved && (
        <MakeRoom
          {...{ moveId, pair, acting, targetSurvey }}
          needs={moved.sizeBytes}
          open={places.every((p) => p.obstacle)}
          roomMade={view.roomMade}
        />
      )}
      {layout && layout.changes.length > 0 && (
        <ul className="mt-4 space-y-1 text-[13.5px] text-ink-soft">
          {layout.changes.map(({ sentence }) => (
            <li key={sentence}>{sentence}</li>
          ))}
        </ul>
      )}
    </Stage>
  )
}

const sizeAfter = ({ partitions: [p], sectorSize }: NonNullable<FitOfPairProps['pair']['locked']>['layout']) =>
  formatSize((p.lastLba - p.firstLba + 1) * sectorSize)

interface PlacesProps {
  readonly places: readonly IntoPlace[]
  readonly chosen: Into | undefined
  readonly locked: boolean
  readonly onChoose: (into: Into) => void
}

/** Every partition of the target, and what keeps the volume out of it. */
function Places({ places, chosen, locked, onChoose }: PlacesProps) {
  return (
    <div role="radiogroup" aria-label="Place on the target" className="panel mt-4 divide-y divide-line">
      {places.map((place) => {
        const { into, title, sizeBytes, usedBytes, obstacle } = place
        const on = into === chosen
        return (
          <label
            key={String(into)}
            className={clsx(
              'grid grid-cols-[auto_minmax(0,1fr)_auto] items-start gap-x-3 px-[18px] py-2.5',
              on && 'bg-magenta-wash',
              obstacle && !on && 'text-ink-soft',
            )}
          >
            <input
              type="radio"
              name="place"
              value={String(into)}
              checked={on}
              disabled={locked || obstacle !== undefined}
              onChange={() => onChoose(into)}
              className="mt-1 accent-[var(--magenta)]"
            />
            <span className="min-w-0">
              <span className="font-semibold">{into === 'free' ? 'A new partition' : `${into}  ${title}`}</span>
              <span className="block text-[13px] text-ink-soft">
                {obstacle ? obstacle.sentence : placeWords(place)}
              </span>
            </span>
            <span className="text-right font-mono text-[13px]">
              {formatSize(sizeBytes)}
              <span className="block text-ink-soft">{into === 'free' ? '' : `${formatSize(usedBytes)} used`}</span>
            </span>
          </label>
        )
      })}
    </div>
  )
}

/** Whether there are files is looked at in Ready. */
const placeWords = ({ into, kind }: IntoPlace) =>
  into === 'free' ? 'In unallocated space, with an entry of its own.' : `With ${kind} now; what is on it is lost.`
