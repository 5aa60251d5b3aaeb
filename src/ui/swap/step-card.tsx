'use client'

import { clsx } from 'clsx'
import { type ScrewGroup, screwWords } from '@/core/things/chassis'
import type { SwapStep, Ticks } from '@/core/swap/types'

interface ScrewsProps {
  readonly step: SwapStep
  readonly ticks: Ticks
  /** All of them are done, or none can be ticked now. */
  readonly state: 'done' | 'now' | 'later'
  readonly busy: boolean
  readonly onTick: (group: number, count: number) => void
}

/** The screws of a step, one circle each, kind by kind; a filled one is out, or in again. */
export function Screws({ step, ticks, state, busy, onTick }: ScrewsProps) {
  if (!step.screws) return null
  const { groups, way } = step.screws
  return (
    <ul className="space-y-2" data-testid="screws">
      {groups.map((group, i) => {
        const given = state === 'done' ? group.count : (ticks[step.id]?.[i] ?? 0)
        return (
          <li key={i} className="flex flex-wrap items-center gap-x-3 gap-y-1">
            <span className="flex gap-1">
              {Array.from({ length: group.count }, (_, n) => (
                <button
                  key={n}
                  type="button"
                  aria-pressed={n < given}
                  aria-label={`${screwWords(group)}, screw ${n + 1} of ${group.count} ${way}`}
                  disabled={busy || state !== 'now'}
                  onClick={() => onTick(i, n < given ? n : n + 1)}
                  className={clsx(
                    'flex size-7 items-center justify-center rounded-full border-2 font-mono text-[12px]',
                    n < given ? 'border-weed bg-weed text-sheet' : 'border-ink bg-sheet',
                    'disabled:opacity-70',
                  )}
                >
                  {n + 1}
                </button>
              ))}
            </span>
            <span>
              <span className="font-mono">{screwWords(group)}</span>
              <span className="text-ink-soft">{placeWords(group)}</span>
            </span>
          </li>
        )
      })}
    </ul>
  )
}

function placeWords({ where, hidden }: ScrewGroup): string {
  return `${where ? `, ${where}` : ''}${hidden ? `, hidden under ${hidden}` : ''}`
}

/** `4 × M3 × 5 mm` for the line of a list. */
export function screwsInWords(step: SwapStep): string {
  return (step.screws?.groups ?? []).map((g) => `${g.count} × ${screwWords(g)}${placeWords(g)}`).join('; ')
}
