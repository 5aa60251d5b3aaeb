'use client'

import { clsx } from 'clsx'

interface PairTabsProps {
  readonly label: string
  /** Names of the drives that the move is about; with one there is nothing to choose. */
  readonly names: readonly string[]
  /** A word beside a name: what is still to be done for it. */
  readonly notes?: readonly (string | undefined)[]
  readonly selected: number
  readonly onSelect: (index: number) => void
}

/** Chooses among the drives of a move, the system's first. */
export function PairTabs({ label, names, notes, selected, onSelect }: PairTabsProps) {
  if (names.length < 2) return null
  return (
    <div role="radiogroup" aria-label={label} className="mb-4 flex flex-wrap gap-2">
      {names.map((name, i) => (
        <button
          key={name}
          type="button"
          role="radio"
          aria-checked={i === selected}
          onClick={() => onSelect(i)}
          className={clsx(
            'rounded-md border px-3 py-1.5 text-left',
            i === selected ? 'border-magenta bg-magenta-wash font-semibold' : 'border-line-strong bg-sheet',
          )}
        >
          {name}{' '}
          <span className="ml-2 text-[13px] font-normal text-ink-soft">
            {notes?.[i] ?? (i === 0 ? 'the system’s' : 'further')}
          </span>
        </button>
      ))}
    </div>
  )
}
