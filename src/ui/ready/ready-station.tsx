'use client'

import { useState } from 'react'
import { clsx } from 'clsx'
import { CircleAlert, CircleCheck, Circle } from 'lucide-react'
import { formatSize } from '@/core/bytes/size'
import type { ReadyItem } from '@/core/ready/port'
import { PLATE_CHARACTERS } from '@/core/ready/plate-check'
import { post, useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Plate, type PlateDrive } from '@/ui/shared/plate'
import { PlateCheck } from './plate-check'

interface ReadyView {
  readonly items: readonly ReadyItem[]
  readonly open: number
  readonly whenDone: 'stay' | 'power-off'
  readonly source: PlateDrive
  readonly leg: { readonly number: number; readonly of: number }
  readonly target: PlateDrive & { readonly model: string; readonly fits: string }
  readonly platePrefix: string
  readonly system?: { readonly title: string; readonly volume?: { readonly usedBytes: number } }
  readonly running: boolean
  readonly done: boolean
}

const COUNTS = ['Nothing', 'One thing', 'Two things', 'Three things', 'Four things', 'Five things']

/** What has to be true before it may start, and the plate check. */
export function ReadyStation({ moveId, view }: { moveId: string; view: ReadyView }) {
  const { act, go, busy } = useAct()
  const { settle } = useActions()
  const [typed, setTyped] = useState('')
  const { items, open, source, target } = view
  const copyPage = `/moves/${moveId}/copy`
  const settled = items.length - open
  const missing = PLATE_CHARACTERS - typed.length
  if (view.running || view.done) {
    return (
      <Stage
        heading={view.done ? 'It was ready, and the copy is done' : 'It was ready, and the copy is running'}
        reason="The list below is as things are now."
        next={<NextAction label="Go to Copy" onAct={() => go(copyPage)} disabled={busy} />}
      >
        <Items items={items} busy={true} onAction={() => {}} />
      </Stage>
    )
  }
  return (
    <Stage
      heading={open === 0 ? 'It may start' : `${COUNTS[open] ?? `${open} things`}, then it may start`}
      reason={`${view.leg.of > 1 ? `Leg ${view.leg.number} of ${view.leg.of}, ${source.name} to ${target.name}. ` : ''}${settled} of ${items.length} are settled. What the bench can see, it has checked itself, and checks again at the start.`}
      aside={
        <>
          <AsideBlock title="Plate check">
            <p className="mb-3 text-ink-soft">
              Read the label on the drive {target.place.startsWith('on ') ? '' : 'in '}
              {target.place}. Everything on it will be erased.
            </p>
            <PlateCheck
              model={target.model}
              detail={`${target.name.slice(target.model.length).trim()} · ${target.fits}`}
              prefix={view.platePrefix}
              value={typed}
              onChange={setTyped}
            />
          </AsideBlock>
          <Plate
            drive={source}
            role="Stays untouched"
            note={
              view.system?.volume ? `${view.system.title}, ${formatSize(view.system.volume.usedBytes)} used` : undefined
            }
          />
          <AsideBlock title="When it ends">
            <div
              role="radiogroup"
              aria-label="When it ends"
              className="grid grid-cols-2 overflow-hidden rounded-md border border-line-strong"
            >
              {(['stay', 'power-off'] as const).map((choice) => (
                <button
                  key={choice}
                  type="button"
                  role="radio"
                  aria-checked={view.whenDone === choice}
                  onClick={() => void act(() => settle(moveId, { action: 'when-done', whenDone: choice }))}
                  className={clsx(
                    'py-1.5 font-semibold',
                    view.whenDone === choice ? 'bg-ink text-paper' : 'text-ink-soft',
                  )}
                >
                  {choice === 'stay' ? 'Stay on' : 'Power off'}
                </button>
              ))}
            </div>
          </AsideBlock>
        </>
      }
      next={
        <NextAction
          label="Erase and copy"
          onAct={() => void act(() => post(`/api/moves/${moveId}/copy`, { plate: typed }), copyPage)}
          disabled={busy || open > 0 || missing > 0}
          hint={hintOf(open, missing, target.name)}
        />
      }
    >
      <Items
        items={items}
        busy={busy}
        onAction={(action) =>
          action === 'go-to-swap' ? go(`/moves/${moveId}/swap`) : void act(() => settle(moveId, { action }))
        }
      />
    </Stage>
  )
}

function hintOf(open: number, missing: number, name: string): string {
  const parts = [
    open > 0 ? `${open} ${open === 1 ? 'thing' : 'things'}` : '',
    missing > 0 ? `${missing} ${missing === 1 ? 'character' : 'characters'}` : '',
  ].filter(Boolean)
  return parts.length > 0 ? `${parts.join(' and ')} to go` : `Erases the ${name}. Nothing will be asked after this.`
}

function Items({
  items,
  busy,
  onAction,
}: {
  items: readonly ReadyItem[]
  busy: boolean
  onAction: (action: string) => void
}) {
  return (
    <ul className="panel divide-y divide-line" data-testid="ready-items">
      {items.map((item) => (
        <li
          key={item.id}
          className="grid grid-cols-[20px_minmax(0,1fr)] gap-x-4 px-[18px] py-3 sm:grid-cols-[20px_minmax(0,1fr)_auto]"
        >
          <StateMark state={item.state} />
          <div>
            <p>
              <span className="text-[15px] font-bold">{item.title}</span>{' '}
              <span className="text-ink-soft">{item.why}</span>
            </p>
            {item.how && (
              <p className="mt-1 flex flex-wrap items-center gap-x-2 gap-y-1">
                {item.how}
                {item.action && (
                  <Button small disabled={busy} onClick={() => onAction(item.action!.id)}>
                    {item.action.label}
                  </Button>
                )}
              </p>
            )}
          </div>
          <span className="col-start-2 font-mono text-[12.5px] text-ink-soft sm:col-start-3">
            {item.state === 'blocks' ? 'blocks' : item.known}
          </span>
        </li>
      ))}
    </ul>
  )
}

function StateMark({ state }: { state: ReadyItem['state'] }) {
  if (state === 'settled') return <CircleCheck size={20} className="mt-px text-weed" aria-label="Settled" />
  if (state === 'blocks') return <CircleAlert size={20} className="mt-px text-vermilion" aria-label="Blocks" />
  return <Circle size={20} className="mt-px text-magenta" aria-label="Open" />
}
