import { clsx } from 'clsx'
import type { CourseStop } from '@/core/route/course'

const LINES: Readonly<Record<NonNullable<CourseStop['toNext']>, string>> = {
  bytes: 'left-[7px] border-l-[6px] border-sea-4 sm:border-t-[6px]',
  hands: 'left-[8px] border-l-[3px] border-dotted border-line-strong sm:mt-[2px] sm:border-t-[3px]',
  start: 'left-[9px] border-l-2 border-line-strong sm:mt-[2px] sm:border-t-2',
}

/**
 * A route as a course with stops: thick where bytes move, dotted where hands do, thin where a computer starts. From left
 * to right, and from top to bottom where there is no room for that.
 */
export function Course({ stops }: { stops: readonly CourseStop[] }) {
  const columns = `repeat(${stops.length}, minmax(0, 1fr))`
  return (
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="The course of this route">
      <ol
        className="grid sm:min-w-(--width) sm:[grid-template-columns:var(--columns)]"
        style={{ '--columns': columns, '--width': `${stops.length * 96}px` } as React.CSSProperties}
      >
        {stops.map((stop, i) => (
          <li
            key={i}
            className="relative grid grid-cols-[19px_minmax(0,1fr)] gap-x-3 pb-4 last:pb-0 sm:block sm:px-1 sm:pt-9 sm:pb-0 sm:text-center"
          >
            {i < stops.length - 1 && (
              <>
                <span
                  aria-hidden
                  className={clsx(
                    'absolute top-[24px] bottom-[1px] sm:top-[45px] sm:right-[calc(-50%+12px)] sm:bottom-auto sm:left-[calc(50%+12px)] sm:border-l-0',
                    LINES[stop.toNext ?? 'start'],
                  )}
                />
                {stop.label && (
                  <span
                    className={clsx(
                      'col-start-2 row-start-3 mt-1 font-mono text-[12px] leading-[15px] sm:absolute sm:top-0 sm:right-[-50%] sm:left-1/2 sm:mt-0 sm:flex sm:h-8 sm:items-end sm:justify-center sm:px-1 sm:text-center',
                      stop.toNext === 'bytes' ? 'text-sea-4' : 'text-ink-soft',
                    )}
                  >
                    {stop.label}
                  </span>
                )}
              </>
            )}
            <span
              aria-hidden
              className={clsx(
                'relative mt-0.5 block size-[19px] rounded-full border-2 sm:mx-auto',
                i === stops.length - 1 ? 'border-magenta bg-magenta' : 'border-ink bg-sheet',
              )}
            />
            <span className="col-start-2 row-start-1 mt-1 block text-[13px] leading-4 font-bold sm:mt-2">
              {stop.title}
            </span>
            <span className="col-start-2 row-start-2 mt-0.5 block text-[12.5px] leading-4 text-ink-soft">
              {stop.sub}
            </span>
          </li>
        ))}
      </ol>
    </div>
  )
}
