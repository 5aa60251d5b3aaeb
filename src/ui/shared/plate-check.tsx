'use client'

import { useRef } from 'react'
import { clsx } from 'clsx'
import { PLATE_CHARACTERS } from '@/core/ready/plate-check'

interface PlateCheckProps {
  readonly model: string
  readonly detail: string
  /** The serial but for its last characters. */
  readonly prefix: string
  readonly value: string
  readonly onChange: (value: string) => void
  /** Enter, as the button that starts says of itself; without, a form around it takes it. */
  readonly onEnter?: () => void
}

/** The drive's own label with the end of its serial left open to type. One field behind, drawn as boxes. */
export function PlateCheck({ model, detail, prefix, value, onChange, onEnter }: PlateCheckProps) {
  const input = useRef<HTMLInputElement>(null)
  return (
    <div className="rounded-lg border-2 border-ink bg-sheet px-4 py-3" onClick={() => input.current?.focus()}>
      <p className="text-[17px] font-[720] [font-stretch:110%]">{model}</p>
      <p className="text-[13px] text-ink-soft">{detail}</p>
      <div className="mt-1 flex items-center gap-1">
        <span className="font-mono text-[13px] whitespace-nowrap text-ink-soft">s/n {prefix}</span>
        <span className="relative flex gap-1">
          {Array.from({ length: PLATE_CHARACTERS }, (_, i) => (
            <span
              key={i}
              aria-hidden
              className={clsx(
                'flex h-8 w-[27px] items-center justify-center rounded border-2 font-mono text-[17px] font-semibold',
                i === value.length ? 'border-magenta' : i < value.length ? 'border-ink' : 'border-line-strong',
              )}
            >
              {value[i] ?? ''}
            </span>
          ))}
          <input
            ref={input}
            aria-label={`Last ${PLATE_CHARACTERS} characters of the serial number on the drive's label`}
            value={value}
            onChange={(event) =>
              onChange(
                event.target.value
                  .toUpperCase()
                  .replace(/[^A-Z0-9]/g, '')
                  .slice(0, PLATE_CHARACTERS),
              )
            }
            onKeyDown={(event) => {
              if (event.key === 'Enter' && !event.repeat) onEnter?.()
            }}
            autoComplete="off"
            spellCheck={false}
            className="absolute inset-0 w-full cursor-text opacity-0"
          />
        </span>
      </div>
      <Bars />
    </div>
  )
}

/** The lines of a label's bar code, for looks only. */
function Bars() {
  const widths = [1, 3, 1, 1, 4, 2, 1, 3, 3, 1, 2, 4, 1, 1, 3, 2, 4, 1, 2, 3, 1, 4, 2, 1, 3, 1]
  return (
    <svg viewBox="0 0 104 8" className="mt-3 h-5 w-full" preserveAspectRatio="none" aria-hidden>
      {widths.map((width, i) => (
        <rect
          key={i}
          x={widths.slice(0, i).reduce((sum, w) => sum + w + 1.9, 0)}
          width={width}
          height="8"
          fill="var(--ink)"
        />
      ))}
    </svg>
  )
}
