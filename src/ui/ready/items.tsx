'use client'

import { useId, useState } from 'react'
import { Circle, CircleAlert, CircleCheck, CircleSlash } from 'lucide-react'
import type { ReadyItem } from '@/core/ready/port'
import { Button } from '@/ui/shared/button'

interface ItemsProps {
  readonly items: readonly ReadyItem[]
  readonly busy: boolean
  readonly onAction: (action: NonNullable<ReadyItem['action']>) => void
  readonly onGoPast: (item: string, reason: string) => void
}

/** Everything that has to be true, what blocks first. */
export function Items({ items, busy, onAction, onGoPast }: ItemsProps) {
  return (
    <ul className="panel divide-y divide-line" data-testid="ready-items">
      {items.map((item) => (
        <li
          key={item.id}
          className="grid grid-cols-[20px_minmax(0,1fr)] gap-x-4 px-[18px] py-3 sm:grid-cols-[20px_minmax(0,1fr)_auto]"
        >
          <StateMark item={item} />
          <div>
            <p>
              <span className="text-[15px] font-bold">{item.title}</span>{' '}
              <span className="text-ink-soft">{item.why}</span>
            </p>
            {item.overridden && <p className="mt-1">Skipped: {item.overridden}</p>}
            {item.how && (
              <p className="mt-1 flex flex-wrap items-center gap-x-2 gap-y-1">
                {item.how}
                {item.action && (
                  <Button small disabled={busy} onClick={() => onAction(item.action!)}>
                    {item.action.label}
                  </Button>
                )}
              </p>
            )}
            {item.state !== 'settled' && item.overridable && (
              <GoPast item={item} busy={busy} onGoPast={(reason) => onGoPast(item.id, reason)} />
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

/** Going on all the same, with a reason that stays. */
function GoPast({ item, busy, onGoPast }: { item: ReadyItem; busy: boolean; onGoPast: (reason: string) => void }) {
  const [open, setOpen] = useState(false)
  const [reason, setReason] = useState('')
  const id = useId()
  if (!open) {
    return (
      <button
        type="button"
        className="mt-1 text-[13px] text-ink-soft underline underline-offset-2"
        onClick={() => setOpen(true)}
      >
        Skip it, with a reason
      </button>
    )
  }
  return (
    <form
      className="mt-2 rounded-md border border-line-strong p-3"
      onSubmit={(event) => {
        event.preventDefault()
        onGoPast(reason)
      }}
    >
      <label htmlFor={id} className="mb-1 block text-[13px]">
        {item.overridable} Why may it start all the same? The sheet will say it.
      </label>
      <textarea
        id={id}
        value={reason}
        rows={2}
        maxLength={300}
        onChange={(event) => setReason(event.target.value)}
        className="w-full rounded-md border border-line-strong bg-paper px-2.5 py-1.5"
      />
      <div className="mt-2 flex gap-2">
        <Button small type="submit" tone="erases" disabled={busy || reason.trim().length < 10}>
          Skip it
        </Button>
        <Button small onClick={() => setOpen(false)}>
          Cancel
        </Button>
      </div>
    </form>
  )
}

function StateMark({ item: { state, overridden } }: { item: ReadyItem }) {
  if (overridden) return <CircleSlash size={20} className="mt-px text-ochre" aria-label="Skipped" />
  if (state === 'settled') return <CircleCheck size={20} className="mt-px text-weed" aria-label="Settled" />
  if (state === 'blocks') return <CircleAlert size={20} className="mt-px text-vermilion" aria-label="Blocks" />
  return <Circle size={20} className="mt-px text-magenta" aria-label="Open" />
}
