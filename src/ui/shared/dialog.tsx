'use client'

import type { ReactNode } from 'react'
import { Dialog as Radix } from 'radix-ui'
import { Button } from './button'

interface DialogProps {
  readonly title: string
  readonly open: boolean
  readonly onClose: () => void
  readonly children: ReactNode
  /** The button that does it, and what it says. */
  readonly action: string
  readonly onAct: () => void
  readonly busy?: boolean
  readonly erases?: boolean
  /** What is wrong with what was entered. */
  readonly problem?: string
}

/** Something that is asked on top of a page. */
export function Dialog({ title, open, onClose, children, action, onAct, busy, erases, problem }: DialogProps) {
  return (
    <Radix.Root open={open} onOpenChange={(now) => !now && onClose()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Radix.Content
          aria-describedby={undefined}
          className="panel fixed top-1/2 left-1/2 z-50 flex max-h-[92dvh] w-[min(760px,94vw)] -translate-x-1/2 -translate-y-1/2 flex-col"
        >
          <Radix.Title className="border-b border-line px-5 py-3 text-lg font-semibold">{title}</Radix.Title>
          <form
            className="flex min-h-0 flex-col"
            onSubmit={(event) => {
              event.preventDefault()
              event.stopPropagation()
              onAct()
            }}
          >
            <div className="min-h-0 overflow-y-auto px-5 py-4">{children}</div>
            <div className="flex flex-wrap items-center justify-end gap-3 border-t border-line px-5 py-3">
              {problem && (
                <p role="alert" className="mr-auto min-w-0 flex-1 basis-60 text-vermilion">
                  {problem}
                </p>
              )}
              <Button onClick={onClose}>Cancel</Button>
              <Button type="submit" disabled={busy} tone={erases ? 'erases' : 'plain'} data-testid="dialog-action">
                {action}
              </Button>
            </div>
          </form>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  )
}
