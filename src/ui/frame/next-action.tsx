'use client'

import { useEffect, useRef } from 'react'
import { clsx } from 'clsx'

interface NextActionProps {
  readonly label: string
  readonly onAct: () => void
  readonly disabled?: boolean
  /** The key that does the same: `Enter`, `Space`, or a letter. */
  readonly shortcut?: string
  /** Under the button: what is still to do, or what it will do. */
  readonly hint?: string
}

/** The one magenta button of a screen, with its key. */
export function NextAction({ label, onAct, disabled, shortcut = 'Enter', hint }: NextActionProps) {
  useShortcut(shortcut, onAct, !disabled)
  return (
    <div>
      <button
        type="button"
        data-testid="next-action"
        onClick={onAct}
        disabled={disabled}
        className={clsx(
          'flex min-h-11 w-full items-center justify-center gap-2 rounded-md px-4 py-2 text-[15px] font-semibold text-balance',
          disabled
            ? 'border border-line-strong bg-sunk text-ink-soft'
            : 'bg-magenta text-on-magenta hover:brightness-110',
        )}
      >
        {label}
        {!disabled && <kbd className="rounded border border-current px-1.5 text-xs">{shortcut}</kbd>}
      </button>
      {hint && <p className="mt-2 text-center text-[13px] text-ink-soft">{hint}</p>}
    </div>
  )
}

/** Calls `act` for a key, unless the key is meant for what has the focus or a dialog is open. */
export function useShortcut(shortcut: string, act: () => void, enabled = true): void {
  const latest = useRef(act)
  useEffect(() => {
    latest.current = act
  })
  useEffect(() => {
    if (!enabled) return
    const wanted = shortcut === 'Space' ? ' ' : shortcut
    const onKey = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() !== wanted.toLowerCase() || event.ctrlKey || event.metaKey || event.altKey) return
      if (event.repeat) return
      const target = event.target as HTMLElement
      // Enter and Space belong to the button or link that has the focus; letters only to fields.
      const own =
        wanted === 'Enter' || wanted === ' ' ? 'input, textarea, select, button, a' : 'input, textarea, select'
      if (target.closest(own)) return
      if (document.querySelector('[role="dialog"]')) return
      event.preventDefault()
      latest.current()
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [shortcut, enabled])
}
