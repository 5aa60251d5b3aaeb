'use client'

import { useRouter } from 'next/navigation'
import { useCallback, useState, useTransition } from 'react'
import { toast } from 'sonner'
import type { Outcome } from './actions'

/**
 * Runs something on the server: shows its sentence when it is refused, else reads the page's state anew.
 * `next` is where to go when it was done. `go` only goes there.
 */
export function useAct() {
  const router = useRouter()
  const [running, setRunning] = useState(false)
  const [refreshing, startTransition] = useTransition()
  const act = useCallback(
    async (work: () => Promise<Outcome>, next?: string): Promise<boolean> => {
      setRunning(true)
      try {
        const outcome = await work()
        if (!outcome.ok) {
          toast.error(outcome.sentence)
          startTransition(() => router.refresh())
          return false
        }
        startTransition(() => (next ? router.push(next) : router.refresh()))
        return true
      } catch {
        toast.error(
          'The server could not be reached, so nothing was done. It may have been stopped; start it again and try once more.',
        )
        return false
      } finally {
        setRunning(false)
      }
    },
    [router],
  )
  const go = useCallback((path: string) => startTransition(() => router.push(path)), [router])
  return { act, go, busy: running || refreshing }
}

/** Sends JSON to a route handler of this server. */
export async function post(path: string, body: unknown): Promise<Outcome> {
  const response = await fetch(path, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify(body),
  })
  return (await response.json()) as Outcome
}
