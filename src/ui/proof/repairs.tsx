'use client'

import { Wrench } from 'lucide-react'
import { Button } from '@/ui/shared/button'

export interface OfferedRepair {
  readonly name: string
  readonly title: string
  readonly changes: readonly string[]
  /** Why it cannot be made. */
  readonly why: string | null
}

export interface MadeRepair {
  readonly id: string
  readonly time?: string
  readonly title: string
  readonly changes: readonly string[]
  readonly undone: boolean
}

/** What could be done about where the start ended. */
export function Offered({
  heading = 'What would repair it',
  repairs,
  first,
  busy,
  onRepair,
}: {
  heading?: string
  repairs: readonly OfferedRepair[]
  /** The one that is the page's next action. */
  first: string | undefined
  busy: boolean
  /** Absent where repairs are only shown. */
  onRepair?: (name: string) => void
}) {
  if (repairs.length === 0) return null
  return (
    <section className="mt-4" data-testid="offered">
      <h2 className="mb-2 font-bold">{heading}</h2>
      <ul className="panel divide-y divide-line">
        {repairs.map((repair) => (
          <li key={repair.name} className="px-[18px] py-3">
            <p className="flex items-center gap-3 font-semibold">
              <Wrench size={18} className="shrink-0 text-ink-soft" aria-hidden />
              {repair.title}
              {repair.why === null && repair.name !== first && onRepair && (
                <span className="ml-auto">
                  <Button small disabled={busy} onClick={() => onRepair(repair.name)}>
                    Do it
                    <span className="sr-only">: {repair.title}</span>
                  </Button>
                </span>
              )}
            </p>
            <div className="mt-1 ml-[30px] text-ink-soft">
              {repair.why ?? repair.changes.map((change) => <p key={change}>{change}</p>)}
            </div>
          </li>
        ))}
      </ul>
    </section>
  )
}

interface MadeProps {
  readonly repairs: readonly MadeRepair[]
  readonly busy: boolean
  /** Absent where none is taken back. */
  readonly onTakeBack?: () => void
}

/** Repairs that were made; the last that stands can be taken back. */
export function Made({ repairs, busy, onTakeBack }: MadeProps) {
  if (repairs.length === 0) return null
  const last = repairs.findLast((r) => !r.undone)
  return (
    <section className="mt-4" data-testid="repairs">
      <h2 className="mb-2 font-bold">Repairs made</h2>
      <ul className="panel divide-y divide-line">
        {repairs.map((repair) => (
          <li key={repair.id} className="flex flex-wrap items-center gap-x-4 gap-y-1 px-[18px] py-3">
            {repair.time && <span className="font-mono text-[13px] text-ink-soft">{repair.time}</span>}
            <span className="min-w-0 flex-1">
              <span className="font-semibold">{repair.title}</span>
              {repair.undone && <span className="text-ink-soft">, undone</span>}
              {repair.changes.map((change) => (
                <span key={change} className="block text-[13px] break-words text-ink-soft">
                  {change}
                </span>
              ))}
            </span>
            {repair === last && onTakeBack && (
              <Button small disabled={busy} onClick={onTakeBack}>
                Undo it
              </Button>
            )}
          </li>
        ))}
      </ul>
    </section>
  )
}
