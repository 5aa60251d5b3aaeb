import type { ReactNode } from 'react'
import { clsx } from 'clsx'

const TONES = {
  caution: 'border-ochre bg-ochre-wash',
  bad: 'border-vermilion bg-vermilion-wash',
  good: 'border-weed bg-weed-wash',
}

/** A sentence that should not be missed. */
export function Callout({ tone = 'caution', children }: { tone?: keyof typeof TONES; children: ReactNode }) {
  return <div className={clsx('rounded-r-md border-l-[3px] px-3 py-2.5 text-[13.5px]', TONES[tone])}>{children}</div>
}
