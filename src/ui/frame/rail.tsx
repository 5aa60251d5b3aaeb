'use client'

import { Link } from '@/ui/frame/link'
import { useRouter } from 'next/navigation'
import { useEffect, useRef } from 'react'
import { clsx } from 'clsx'
import type { RailStop } from '@/core/move/stations'
import { useShortcut } from './next-action'

/** The nine stations as a route: done, here, ahead, each with what it came to. A strip on narrow screens. */
export function Rail({ moveId, stops, here }: { moveId: string; stops: readonly RailStop[]; here: string }) {
  const router = useRouter()
  const index = stops.findIndex((stop) => stop.id === here)
  const goTo = (i: number) => stops[i] && router.push(`/moves/${moveId}/${stops[i].id}`)
  const current = useRef<HTMLAnchorElement>(null)
  // On a narrow screen the rail is a strip, and where one is may lie outside of it.
  useEffect(() => {
    current.current?.scrollIntoView({ block: 'nearest', inline: 'center' })
  }, [here])
  useShortcut('[', () => goTo(index - 1))
  useShortcut(']', () => goTo(index + 1))
  return (
    <nav
      aria-label="Stations"
      className="no-print rail-ground border-line max-lg:overflow-x-auto max-lg:border-b lg:border-r"
    >
      <p className="caption px-5 pt-5 pb-3 max-lg:hidden">The move</p>
      <ol className="flex px-2 py-2 max-lg:min-w-max lg:flex-col lg:px-0 lg:py-0">
        {stops.map((stop, i) => (
          <li key={stop.id} className="relative">
            {i < stops.length - 1 && (
              <span
                aria-hidden
                className={clsx(
                  'absolute top-6 -bottom-2 left-[28px] w-0.5 max-lg:hidden',
                  stop.state === 'done' ? 'bg-sea-3' : 'bg-line-strong',
                )}
              />
            )}
            <Link
              href={`/moves/${moveId}/${stop.id}`}
              ref={stop.id === here ? current : undefined}
              aria-current={stop.id === here ? 'step' : undefined}
              className={clsx(
                'relative flex gap-2 rounded px-2 py-1.5 lg:min-h-11 lg:gap-3 lg:rounded-none lg:py-1 lg:pr-3 lg:pl-[22px]',
                stop.id === here && 'max-lg:bg-magenta-wash',
              )}
            >
              <Bullet state={stop.state} here={stop.id === here} />
              <span className="min-w-0">
                <span
                  className={clsx(
                    'block text-[15px] leading-5',
                    stop.id === here ? 'font-bold' : stop.state === 'done' ? '' : 'text-ink-soft',
                  )}
                >
                  {stop.title}
                  <span className="sr-only">
                    {stop.state === 'done' ? ', done' : stop.state === 'current' ? ', to do now' : ''}
                  </span>
                </span>
                {stop.note && (
                  <span className="block text-[12.5px] leading-4 text-ink-soft max-lg:hidden">{stop.note}</span>
                )}
              </span>
            </Link>
          </li>
        ))}
      </ol>
    </nav>
  )
}

function Bullet({ state, here }: { state: RailStop['state']; here: boolean }) {
  return (
    <span
      aria-hidden
      className={clsx(
        'mt-[3px] size-[14px] shrink-0 rounded-full border-2',
        here
          ? 'border-[4px] border-magenta bg-sheet'
          : state === 'done'
            ? 'border-sea-3 bg-sea-3'
            : state === 'current'
              ? 'border-magenta bg-sheet'
              : 'border-line-strong bg-paper',
      )}
    />
  )
}
