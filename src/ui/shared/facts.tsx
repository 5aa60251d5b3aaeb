import type { ReactNode } from 'react'
import { clsx } from 'clsx'

/** A fact of a list: its name, its value, whether the value is a number or code. */
export interface Fact {
  readonly name: string
  readonly value: ReactNode
  readonly mono?: boolean
  readonly tone?: 'good' | 'bad' | 'caution'
}

const TONES = {
  good: 'text-weed font-semibold',
  bad: 'text-vermilion font-semibold',
  caution: 'text-ochre-ink font-semibold',
}

/** Names at the left, values right-aligned, one a line. */
export function Facts({ facts }: { facts: readonly Fact[] }) {
  return (
    <dl className="space-y-1.5">
      {facts.map(({ name, value, mono, tone }) => (
        <div key={name} className="flex items-baseline justify-between gap-4">
          <dt className="max-w-[70%] shrink-0 text-ink-soft">{name}</dt>
          <dd className={clsx('text-right', mono && 'font-mono', tone && TONES[tone])}>{value}</dd>
        </div>
      ))}
    </dl>
  )
}
