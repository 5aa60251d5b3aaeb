import { clsx } from 'clsx'
import type { LentBy } from '@/core/things/drive'

const STATES: Record<LentBy['state'], string> = {
  'not asked': 'not asked for yet',
  asked: 'waits for a yes',
  here: 'connected',
  away: 'no connection',
  refused: 'refused',
}

/** The name of the bench that lends a drive, flown on its plate. */
export function Pennant({ bench, state }: Pick<LentBy, 'bench' | 'state'>) {
  return (
    <span className="mb-1 flex flex-wrap items-center gap-x-1.5 text-[12px] leading-[18px]">
      <span
        className={clsx(
          'inline-block pr-3.5 pl-1.5 font-semibold text-sheet [clip-path:polygon(0_0,100%_0,calc(100%-8px)_50%,100%_100%,0_100%)]',
          state === 'here' ? 'bg-sea-4' : 'bg-ink-soft',
        )}
      >
        {bench}
      </span>
      <span className={state === 'refused' ? 'text-vermilion' : 'text-ink-soft'}>{STATES[state]}</span>
    </span>
  )
}
