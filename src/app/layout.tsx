import type { Metadata } from 'next'
import { cookies, headers } from 'next/headers'
import type { ReactNode } from 'react'
import { stateNow } from '@/server/ground/events'
import { ActionsProvider } from '@/ui/frame/actions'
import { EventsProvider } from '@/ui/frame/events'
import { Toasts } from '@/ui/frame/toasts'
import * as actions from './actions'
import { HullPatterns } from '@/ui/shared/hull'
import './globals.css'

export const metadata: Metadata = { title: { default: 'Imbarco', template: '%s · Imbarco' } }

/** The theme is known before anything is drawn: what the person chose, or else what the system asks for. */
const THEME_SCRIPT =
  "if(!document.documentElement.dataset.theme)document.documentElement.dataset.theme=matchMedia('(prefers-color-scheme: dark)').matches?'night':'day'"

export default async function RootLayout({ children }: { children: ReactNode }) {
  const theme = (await cookies()).get('theme')?.value
  // Taken first, so that nothing that the page shows is older.
  const madeOf = stateNow()
  const nonce = (await headers()).get('x-nonce') ?? undefined
  return (
    <html lang="en" data-theme={theme === 'night' || theme === 'day' ? theme : undefined} suppressHydrationWarning>
      <head>
        <script nonce={nonce} suppressHydrationWarning dangerouslySetInnerHTML={{ __html: THEME_SCRIPT }} />
      </head>
      <body>
        <ActionsProvider actions={{ ...actions }}>
          <EventsProvider madeOf={madeOf}>{children}</EventsProvider>
        </ActionsProvider>
        <HullPatterns />
        <Toasts />
      </body>
    </html>
  )
}
