'use client'

import { useState } from 'react'
import { CircleHelp } from 'lucide-react'
import { Dialog } from 'radix-ui'
import { useShortcut } from './next-action'

const KEYS: readonly [string, string][] = [
  ['Ctrl K', 'Find or do anything'],
  ['Enter', 'The next action, as shown on its button'],
  ['Space', 'In Swap: this step is done'],
  ['[ and ]', 'Station before, station after'],
  ['?', 'This list'],
  ['Tab', 'Next thing on the page'],
  ['Esc', 'Close what is open'],
]

/** The list of keys, on `?`. */
export function Keys() {
  const [open, setOpen] = useState(false)
  useShortcut('?', () => setOpen(true))
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger aria-label="Keys" className="hidden rounded p-1.5 text-ink-soft hover:bg-sunk sm:block">
        <CircleHelp size={16} aria-hidden />
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="panel fixed top-1/2 left-1/2 z-50 w-[min(420px,92vw)] -translate-x-1/2 -translate-y-1/2 p-5"
        >
          <Dialog.Title className="mb-3 text-lg font-semibold">Keys</Dialog.Title>
          <dl className="grid grid-cols-[auto_1fr] items-center gap-x-4 gap-y-2">
            {KEYS.map(([key, what]) => (
              <div key={key} className="contents">
                <dt>
                  <kbd className="rounded border border-line-strong px-1.5 py-0.5 whitespace-nowrap">{key}</kbd>
                </dt>
                <dd>{what}</dd>
              </div>
            ))}
          </dl>
          <Dialog.Close className="mt-5 w-full rounded-md border border-line-strong py-2 font-semibold">
            Close
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}
