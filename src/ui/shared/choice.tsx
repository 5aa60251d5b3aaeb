'use client'

import { clsx } from 'clsx'

interface ChoiceProps {
  readonly label: string
  readonly value: string
  readonly options: readonly (readonly [string, string])[]
  readonly disabled: boolean
  /** The label stands in front of it and not above. */
  readonly inline?: boolean
  readonly onChange: (value: string) => void
}

/** One of several, by name. */
export function Choice({ label, value, options, disabled, inline, onChange }: ChoiceProps) {
  return (
    <label className={clsx('min-w-0', inline ? 'flex items-center gap-2' : 'block')}>
      <span className={clsx('text-[13px] text-ink-soft', !inline && 'mb-1 block')}>{label}</span>
      <select
        value={value}
        disabled={disabled}
        onChange={(event) => onChange(event.target.value)}
        className={clsx(
          'w-full min-w-0 rounded-md border border-line-strong bg-paper px-2.5 disabled:opacity-60',
          inline ? 'py-0.5' : 'py-1.5',
        )}
      >
        {options.map(([key, name]) => (
          <option key={key} value={key}>
            {name}
          </option>
        ))}
      </select>
    </label>
  )
}
