import { clsx } from 'clsx'
import type { CourseStop } from '@/core/route/course'

/** A route as a course with stops: thick where bytes move, dotted where hands do, thin where a computer starts. */
export function Course({ stops }: { stops: readonly CourseStop[] }) {
  return (
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="The course of this route">
      <ol
        className="grid"
        style={{ gridTemplateColumns: `repeat(${stops.length}, minmax(0, 1fr))`, minWidth: stops.length * 96 }}
      >
        {stops.map((stop, i) => (
          <li key={i} className="relative px-1 pt-9 text-center">
            {i < stops.length - 1 && (
              <>
                <span
                  aria-hidden
                  className={clsx(
                    'absolute top-[45px] right-[calc(-50%+12px)] left-[calc(50%+12px)]',
                    stop.toNext === 'bytes'
                      ? 'border-t-[6px] border-sea-4'
                      : stop.toNext === 'hands'
                        ? 'mt-[2px] border-t-[3px] border-dotted border-line-strong'
                        : 'mt-[2px] border-t-2 border-line-strong',
                  )}
                />
                {stop.label && (
                  <span
                    className={clsx(
                      'absolute top-0 right-[-50%] left-1/2 flex h-8 items-end justify-center px-1 text-center font-mono text-[12px] leading-[15px]',
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
                'relative mx-auto mt-0.5 block size-[19px] rounded-full border-2',
                i === stops.length - 1 ? 'border-magenta bg-magenta' : 'border-ink bg-sheet',
              )}
            />
            <span className="mt-2 block text-[13px] leading-4 font-bold">{stop.title}</span>
            <span className="mt-0.5 block text-[12.5px] leading-4 text-ink-soft">{stop.sub}</span>
          </li>
        ))}
      </ol>
    </div>
  )
}
