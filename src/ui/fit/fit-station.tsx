'use client'

import { useCallback, useEffect, useMemo, useState } from 'react'
import { formatCapacity, formatLimit, formatSize, parseSize } from '@/core/bytes/size'
import { rangeOf, withSize } from '@/core/fit/range'
import { whyNotBeside } from '@/core/fit/beside'
import { movedPartitions, targetOf } from '@/core/fit/ends'
import { volumesGive } from '@/core/fit/gives'
import { defaultWish, solveFit } from '@/core/fit/solve'
import type { FitTarget, FitWish } from '@/core/fit/types'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Choice } from '@/ui/shared/choice'
import { Callout } from '@/ui/shared/callout'
import { PairTabs } from '@/ui/shared/pair-tabs'
import { FitChart } from './fit-chart'
import { FitOptions } from './fit-options'
import { FitTable } from './fit-table'
import { FitTools } from './fit-tools'
import {
  type Candidate,
  type FitOfPairProps,
  type FitPair,
  type FitView,
  Next,
  Stale,
  ThisCopy,
  wordsOf,
} from './fit-frame'
import { IntoFit } from './into-station'
import { SelectedVolume } from './selected-volume'
import { useHistory } from './use-history'
import { WhyNot } from './why-not'

/** Where everything goes on the targets, one drive after the other. */
export function FitStation({ moveId, view }: { moveId: string; view: FitView }) {
  const { pairs } = view
  // One for all pairs: what one has asked for is there before the next can ask.
  const acting = useAct()
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
  const { volume, targetSurvey } = pairs[shown]
  if (volume !== null && targetSurvey)
    return <IntoFit {...{ moveId, view, acting, tabs, volume, targetSurvey }} pair={pairs[shown]} />
  return (
    <FitOfPair
      key={shown}
      moveId={moveId}
      pair={pairs[shown]}
      view={view}
      acting={acting}
      tabs={tabs}
      onLocked={further < 0 ? undefined : () => setShown(further)}
    />
  )
}

/** Solved in the browser at each change, and once more by the server when locked. */
function FitOfPair({ moveId, pair, view, acting, tabs, onLocked }: FitOfPairProps) {
  const { act, go, busy } = acting
  const { lockFit, unlockFit, takeTarget } = useActions()
  const { sourceSurvey, targetSurvey, diskLimit, locked, earlier, ownIdentity, besideSource } = pair
  // Such a target keeps nothing of the source's identity, whatever rules are taken up.
  const own = useCallback(
    (wish: FitWish): FitWish =>
      ownIdentity === null || wish.identity?.of === 'all'
        ? wish
        : { ...wish, identity: { of: 'all', seed: ownIdentity } },
    [ownIdentity],
  )
  const history = useHistory<FitWish>(() => own(locked?.wish ?? earlier[0]?.wish ?? defaultWish(sourceSurvey)))
  const { set: take, undo, redo } = history
  const set = useCallback((wish: FitWish, stroke?: string) => take(own(wish), stroke), [take, own])
  const wish = locked?.wish ?? history.now
  const [tried, setTried] = useState('')
  const candidate = locked ? undefined : view.candidates.find((c) => c.id === tried)
  const [virtualBytes, setVirtualBytes] = useState(
    locked?.layout.targetSizeBytes ?? Math.min(sourceSurvey.sizeBytes, diskLimit?.bytes ?? Infinity),
  )
  const target = useMemo<FitTarget>(
    () => candidate ?? targetOf(sourceSurvey, targetSurvey, virtualBytes),
    [candidate, sourceSurvey, targetSurvey, virtualBytes],
  )
  const result = useMemo(() => solveFit(sourceSurvey, target, wish), [sourceSurvey, target, wish])
  const moved = movedPartitions(sourceSurvey)
  const first = moved.find((p) => wish.rules[p.number] === 'fill') ?? moved[0]
  const [selected, setSelected] = useState(String(first?.number ?? ''))
  const [compared, setCompared] = useState('')
  const canChange = !locked && !view.copied
  useUndoKeys(canChange, undo, redo)

  const ready = `/moves/${moveId}/ready`
  const layout = result.fits ? result.layout : undefined
  const nearest = useMemo(
    () => (result.fits || !result.nearest ? undefined : solveFit(sourceSurvey, target, result.nearest.wish)),
    [result, sourceSurvey, target],
  )
  const shown = layout ?? (nearest?.fits ? nearest.layout : undefined)
  const gives = useMemo(
    () => (result.fits ? [] : volumesGive(sourceSurvey, target, wish)),
    [result, sourceSurvey, target, wish],
  )
  const original = moved.find((p) => String(p.number) === selected)
  const { heading, reason } = wordsOf(result)
  const range = useCallback(
    (number: number) => rangeOf(sourceSurvey, target, wish, number),
    [sourceSurvey, target, wish],
  )
  const resize = useCallback(
    (number: number, bytes: number, stroke?: string) => set(withSize(wish, number, bytes), stroke),
    [set, wish],
  )
  const beside = besideSource ? whyNotBeside(sourceSurvey, wish) : undefined
  const lock = async () => {
    const fit = { wish, pair: pair.index, ...(targetSurvey ? {} : { virtualBytes }) }
    const done = await act(() => lockFit(moveId, fit), onLocked || view.obstacle ? undefined : ready)
    if (done) onLocked?.()
  }
  const left = new Set(wish.leaveOut ?? [])
  const before = compared === '' ? undefined : earlier[Number(compared)]
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
              partition={layout?.partitions.find((p) => p.sourceNumber === original.number)}
              layout={layout}
              wish={wish}
              order={(layout?.partitions ?? []).map((p) => p.sourceNumber)}
              range={locked ? undefined : range(original.number)}
              locked={!canChange}
              onWish={set}
              onSize={(bytes, stroke) => resize(original.number, bytes, stroke)}
            />
          )}
          <ThisCopy pair={pair} tried={candidate !== undefined} />
        </>
      }
      next={
        <Next
          locked={locked}
          canLock={result.fits && !busy && !view.stale && beside === undefined}
          busy={busy}
          obstacle={view.obstacle}
          candidate={candidate}
          more={onLocked !== undefined}
          onGo={() => (onLocked ? onLocked() : go(ready))}
          onLock={() => void lock()}
          onTake={() =>
            void act(() => takeTarget(moveId, { pair: pair.index, driveId: candidate!.id }), `/moves/${moveId}/intake`)
          }
        />
      }
    >
      {tabs}
      <Stale moveId={moveId} acting={acting} stale={view.stale} />
      {canChange && (
        <>
          <TargetChoice
            pair={pair}
            candidates={view.candidates}
            tried={tried}
            onTry={setTried}
            virtualBytes={virtualBytes}
            onVirtual={setVirtualBytes}
          />
          <FitTools
            survey={sourceSurvey}
            sourceName={pair.source.name}
            wish={wish}
            layout={layout}
            canUndo={history.canUndo}
            canRedo={history.canRedo}
            onUndo={undo}
            onRedo={redo}
            onWish={set}
          />
        </>
      )}
      {beside && (
        <div className="mb-4">
          <Callout tone="bad">{beside}</Callout>
        </div>
      )}
      {!result.fits && <WhyNot result={result} gives={gives} canUndo={history.canUndo} onUndo={undo} onWish={set} />}
      {shown && (
        <>
          {!layout && <p className="mb-2 text-ink-soft">The nearest that fits:</p>}
          <FitChart
            layout={shown}
            source={pair.source}
            target={candidate ?? pair.target ?? { model: 'virtual disk', serial: '' }}
            selected={selected}
            onSelect={setSelected}
            held={candidate ? (candidate.isEmpty ? '' : candidate.holds) : targetSurvey}
            sizing={
              canChange && layout
                ? {
                    numbers: moved.filter((p) => p.volume && !left.has(p.number)).map((p) => p.number),
                    rangeOf: range,
                    onSize: resize,
                  }
                : undefined
            }
          />
          {result.fits && result.notes.length > 0 && (
            <div className="mt-4 space-y-2">
              {result.notes.map((note) => (
                <Callout key={note.sentence}>{note.sentence}</Callout>
              ))}
            </div>
          )}
          <FitTable
            layout={shown}
            leftOut={moved.filter((p) => left.has(p.number))}
            earlier={before}
            selected={selected}
            onSelect={setSelected}
          />
          {earlier.length > 0 && (
            <div className="mt-3 max-w-72">
              <Choice
                label="Compare with an earlier fit"
                value={compared}
                disabled={false}
                options={[['', 'none'], ...earlier.map((e, i) => [String(i), `${e.at}: ${e.headline}`] as const)]}
                onChange={setCompared}
              />
            </div>
          )}
        </>
      )}
      <FitOptions
        survey={sourceSurvey}
        wish={wish}
        layout={layout}
        locked={!canChange}
        ownIdentity={ownIdentity !== null}
        onWish={set}
      />
    </Stage>
  )
}

/** Ctrl Z and Ctrl Shift Z, but where text is typed, which has its own. */
function useUndoKeys(enabled: boolean, undo: () => void, redo: () => void): void {
  useEffect(() => {
    if (!enabled) return
    const onKey = (event: KeyboardEvent) => {
      const typing = event.target instanceof HTMLInputElement || event.target instanceof HTMLTextAreaElement
      if (typing || !(event.ctrlKey || event.metaKey)) return
      const key = event.key.toLowerCase()
      if (key !== 'z' && key !== 'y') return
      event.preventDefault()
      if (key === 'y' || event.shiftKey) redo()
      else undo()
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [enabled, undo, redo])
}

interface TargetChoiceProps {
  readonly pair: FitPair
  readonly candidates: readonly Candidate[]
  readonly tried: string
  readonly onTry: (id: string) => void
  readonly virtualBytes: number
  readonly onVirtual: (bytes: number) => void
}

/** Other drives that it could go to, or the size of a virtual disk. */
function TargetChoice({ pair, candidates, tried, onTry, virtualBytes, onVirtual }: TargetChoiceProps) {
  if (!pair.target) {
    return (
      <VirtualSize now={pair.sourceSurvey.sizeBytes} limit={pair.diskLimit} bytes={virtualBytes} onBytes={onVirtual} />
    )
  }
  if (candidates.length === 0) return null
  return (
    <div className="mb-2.5 max-w-md">
      <Choice
        label="Target"
        inline
        value={tried}
        disabled={false}
        options={[
          ['', `${pair.target.name}, as planned`],
          ...candidates.map((c) => [c.id, `Try the ${c.name} (${formatCapacity(c.sizeBytes)}; ${c.place})`] as const),
        ]}
        onChange={onTry}
      />
    </div>
  )
}

interface VirtualSizeProps {
  readonly now: number
  readonly limit: FitPair['diskLimit']
  readonly bytes: number
  readonly onBytes: (bytes: number) => void
}

function VirtualSize({ now, limit, bytes, onBytes }: VirtualSizeProps) {
  const [typed, setTyped] = useState<string>()
  const most = limit?.bytes ?? Infinity
  // What is rounded up would be beyond the limit.
  const text = typed ?? (bytes === most ? formatLimit(bytes) : formatSize(bytes))
  const parsed = parseSize(text, now)
  const problem =
    parsed === undefined
      ? 'That is not a size.'
      : parsed > most
        ? `A ${limit!.format} holds at most ${formatLimit(most)}.`
        : undefined
  return (
    <label className="mb-3 block max-w-72">
      <span className="mb-1 block text-[13px] text-ink-soft">Size of the virtual disk</span>
      <input
        value={text}
        aria-invalid={problem !== undefined}
        onChange={(event) => {
          setTyped(event.target.value)
          const next = parseSize(event.target.value, now)
          // A disk has whole mebibytes.
          if (next !== undefined) onBytes(Math.min(Math.ceil(next / 2 ** 20) * 2 ** 20, most))
        }}
        className="w-full rounded-md border border-line-strong bg-paper px-3 py-1.5 text-right font-mono aria-invalid:border-vermilion"
      />
      {problem && <span className="text-[13px] text-vermilion">{problem}</span>}
    </label>
  )
}
