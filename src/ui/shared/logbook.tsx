import { clsx } from 'clsx'

export interface LogLine {
  readonly id: number
  readonly time: string
  readonly text: string
  readonly tone: 'plain' | 'good' | 'bad'
}

/** What happened, with bench times, newest first. */
export function Logbook({ lines }: { lines: readonly LogLine[] }) {
  if (lines.length === 0) return <p className="text-[13px] text-ink-soft">Nothing has happened yet.</p>
  return (
    <ol className="space-y-1.5 font-mono text-[12.5px]" data-testid="logbook">
      {lines.map(({ id, time, text, tone }) => (
        <li
          key={id}
          className={clsx(
            'flex gap-2',
            tone === 'bad' ? 'text-vermilion' : tone === 'good' ? 'text-weed' : 'text-ink-soft',
          )}
        >
          <time className="shrink-0">{time}</time>
          <span>{text}</span>
        </li>
      ))}
    </ol>
  )
}
