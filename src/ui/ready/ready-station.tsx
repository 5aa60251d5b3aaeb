'use client'

import { useState } from 'react'
import { clsx } from 'clsx'
import { formatSize } from '@/core/bytes/size'
import type { ReadyItem } from '@/core/ready/port'
import { PLATE_CHARACTERS } from '@/core/ready/plate-check'
import { counted } from '@/core/words'
import { post, useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Plate, type PlateDrive } from '@/ui/shared/plate'
import { HowItCopies, type HowView } from './how-it-copies'
import { Items } from './items'
import { PlateCheck } from '@/ui/shared/plate-check'

interface ReadyView {
  readonly items: readonly ReadyItem[]
  readonly open: number
  /** What becomes of the computer when the copy has ended; null where that is not for Imbarco to do. */
  readonly whenDone: 'stay' | 'power-off' | null
  readonly source: PlateDrive
  readonly leg: { readonly number: number; readonly of: number }
  readonly target: PlateDrive & { readonly model: string; readonly fits: string }
  /** An image is made, of a machine's own disk or not: nothing that is there already is written over. */
  readonly makesImage: false | 'image' | 'virtual disk'
  /** The drive that is written, whose plate is typed; null where a host keeps the image. */
  readonly written: (PlateDrive & { readonly model: string; readonly fits: string }) | null
  /** The partition that alone is written, of a drive that keeps everything else; without a title where it is made anew. */
  readonly into: { readonly partition: number; readonly title: string | null } | null
  readonly platePrefix: string
  /** Of the drives as they are shown; the start is refused when they have become others. */
  readonly seen: string
  readonly how: HowView
  readonly further: readonly (PlateDrive & {
    readonly id: string
    readonly model: string
    readonly fits: string
    readonly platePrefix: string
  })[]
  readonly system?: { readonly title: string; readonly volume?: { readonly usedBytes: number } }
  readonly running: boolean
  readonly done: boolean
}

const COUNTS = ['Nothing', 'One item', 'Two items', 'Three items', 'Four items', 'Five items']

/** What has to be true before it may start, and the plate check. */
export function ReadyStation({ moveId, view }: { moveId: string; view: ReadyView }) {
  const { act, go, busy } = useAct()
  const { settle } = useActions()
  const [typed, setTyped] = useState('')
  const [furtherTyped, setFurtherTyped] = useState<Record<string, string>>({})
  const { items, open, source, target } = view
  const copyPage = `/moves/${moveId}/copy`
  const settled = items.length - open
  const plates = [...(view.written ? [typed] : []), ...view.further.map((d) => furtherTyped[d.id] ?? '')]
  const missing = plates.reduce((sum, text) => sum + PLATE_CHARACTERS - text.length, 0)
  const say = (input: { action: string } & Record<string, unknown>) => void act(() => settle(moveId, input))
  if (view.running || view.done) {
    return (
      <Stage
        heading={view.done ? 'It was ready, and the copy is done' : 'It was ready, and the copy is running'}
        reason="The list below is as things are now."
        next={<NextAction label="Go to Copy" onAct={() => go(copyPage)} disabled={busy} />}
      >
        <Items items={items} busy={true} onAction={() => {}} onGoPast={() => {}} />
      </Stage>
    )
  }
  const canStart = !busy && open === 0 && missing === 0
  const start = () =>
    void act(
      () => post(`/api/moves/${moveId}/copy`, { plate: typed, seen: view.seen, further: furtherTyped }),
      copyPage,
    )
  return (
    <Stage
      heading={open === 0 ? 'It can start' : `${COUNTS[open] ?? `${open} items`} left before it can start`}
      reason={`${view.leg.of > 1 ? `Leg ${view.leg.number} of ${view.leg.of}, ${source.name} to ${target.name}. ` : ''}${settled} of ${items.length} are settled. What the bench can see, it has checked itself, and checks again at the start.`}
      aside={
        <>
          <AsideBlock title={view.written ? 'Plate check' : 'Where it goes'}>
            <p className="mb-3 text-ink-soft">{whereWords(view)}</p>
            {view.written && (
              <PlateCheck
                model={view.written.model}
                detail={`${view.written.name.slice(view.written.model.length).trim()} · ${view.written.fits}`}
                prefix={view.platePrefix}
                value={typed}
                onChange={setTyped}
                onEnter={() => canStart && start()}
              />
            )}
            {view.further.map((drive) => (
              <div key={drive.id} className="mt-3">
                <p className="mb-2 text-[13px] text-ink-soft">And on the one in the {drive.place}:</p>
                <PlateCheck
                  model={drive.model}
                  detail={`${drive.name.slice(drive.model.length).trim()} · ${drive.fits}`}
                  prefix={drive.platePrefix}
                  value={furtherTyped[drive.id] ?? ''}
                  onEnter={() => canStart && start()}
                  onChange={(value) => setFurtherTyped((all) => ({ ...all, [drive.id]: value }))}
                />
              </div>
            ))}
          </AsideBlock>
          <Plate
            drive={source}
            role="Stays untouched"
            note={
              view.system?.volume ? `${view.system.title}, ${formatSize(view.system.volume.usedBytes)} used` : undefined
            }
          />
          {view.whenDone && (
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
                    onClick={() => say({ action: 'when-done', whenDone: choice })}
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
          )}
        </>
      }
      next={
        <NextAction
          label={
            view.makesImage
              ? `Write the ${view.makesImage}`
              : view.into
                ? `Write partition ${view.into.partition}`
                : 'Erase and copy'
          }
          onAct={start}
          disabled={!canStart}
          hint={hintOf(open, missing, view)}
        />
      }
    >
      <Items
        items={items}
        busy={busy}
        onAction={({ id, of }) => (id === 'go-to-swap' ? go(`/moves/${moveId}/swap`) : say({ action: id, of }))}
        onGoPast={(item, reason) => say({ action: 'skip', item, reason })}
      />
      <HowItCopies how={view.how} busy={busy} onChoose={(choices) => say({ action: 'choose', choices })} />
    </Stage>
  )
}

function whereWords({ makesImage, written, target, into }: ReadyView): string {
  if (!written) return `It becomes ${target.name}, in the folder of the ${target.place}. Nothing is erased.`
  const label = `Read the label on the drive ${written.place.startsWith('on ') ? '' : 'in the '}${written.place}.`
  if (into) {
    const which = into.title === null ? 'which is made in unallocated space' : into.title
    return `${label} Partition ${into.partition} of it, ${which}, will be written; everything else on it stays.`
  }
  return makesImage
    ? `${label} ${target.name} is put on it; its other files stay as they are.`
    : `${label} Everything on it will be erased.`
}

function hintOf(open: number, missing: number, { makesImage, target, further, into }: ReadyView): string {
  const name = [target, ...further].map((d) => d.name).join(' and the ')
  const parts = [open > 0 ? counted(open, 'item') : '', missing > 0 ? counted(missing, 'character') : ''].filter(
    Boolean,
  )
  return parts.length > 0
    ? `${parts.join(' and ')} left`
    : `${makesImage ? `Makes ${name}` : into ? `Erases partition ${into.partition} of the ${name}` : `Erases the ${name}`}. Nothing will be asked after this.`
}
