import type { ReactNode } from 'react'
import { Notice } from './notice'

interface StageProps {
  /** The finding: what this screen came to, in a few words. */
  readonly heading: string
  /** Why, in a sentence. */
  readonly reason?: ReactNode
  /** Buttons beside the heading. */
  readonly tools?: ReactNode
  readonly children: ReactNode
  /** The right column; ends in the one next action. */
  readonly aside?: ReactNode
  readonly next?: ReactNode
}

/** A station's work in the middle, what it involves at the right, the next action at its foot. */
export function Stage({ heading, reason, tools, children, aside, next }: StageProps) {
  return (
    <>
      <main className="min-w-0 px-4 py-4 sm:px-[22px]">
        <div className="mb-3.5 flex flex-wrap items-start justify-between gap-x-6 gap-y-3">
          <div className="min-w-0 flex-1 basis-72">
            <h1 data-testid="finding">{heading}</h1>
            {reason && <p className="mt-1.5 max-w-[84ch] text-[15.5px] text-ink-soft">{reason}</p>}
          </div>
          {tools && <div className="no-print flex gap-3">{tools}</div>}
        </div>
        <Notice />
        {children}
      </main>
      {(aside || next) && (
        <aside
          aria-label="Details and next action"
          className="no-print flex flex-col gap-5 border-line bg-sheet p-[18px] max-lg:border-t lg:border-l"
        >
          {aside}
          {next && (
            <div className="mt-auto bg-sheet lg:sticky lg:bottom-0 lg:-mb-[18px] lg:pt-2 lg:pb-[18px]">{next}</div>
          )}
        </aside>
      )}
    </>
  )
}

/** A titled block of the right column. */
export function AsideBlock({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section>
      <h2 className="caption mb-2.5">{title}</h2>
      {children}
    </section>
  )
}
