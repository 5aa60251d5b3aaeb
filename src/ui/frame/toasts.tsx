'use client'

import { Toaster } from 'sonner'

/** Where sentences about what was refused appear. */
export function Toasts() {
  return (
    <Toaster
      position="bottom-center"
      toastOptions={{
        style: {
          background: 'var(--sheet)',
          color: 'var(--ink)',
          border: '1px solid var(--line-strong)',
          fontFamily: 'inherit',
        },
        duration: 9000,
      }}
    />
  )
}
