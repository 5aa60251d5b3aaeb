'use client'

import { useRouter } from 'next/navigation'
import { createContext, useCallback, useContext, useState, useTransition } from 'react'
import { toast } from 'sonner'
import type { Outcome } from './actions'
import { useJobEnd, useRereading } from './events'

/**
 * Runs something on the server: shows its sentence when it is refused, else reads the page's state anew. Where it goes
 * on as a job, the end of that is waited for, as `finished` does. `next` is where to go when it was done; `go` only goes
 * there. `busy` also while a job of this move runs that another page began.
 */
export function useAct() {
  const router = useRouter()
  const jobEnd = useJobEnd()
  const jobRuns = useContext(JobRuns)
  const [running, setRunning] = useState(false)
  const [refreshing, startTransition] = useTransition()
  useRereading(refreshing)
  const finished = useCallback(
    async (outcome: Outcome): Promise<Outcome> => {
      const id = outcome.ok && jobOf(outcome.value)
      if (!id) return outcome
      startTransition(() => router.refresh())
      const { state, message } = await jobEnd(id)
      return state === 'done' ? { ok: true } : { ok: false, sentence: message ?? 'It did not come to its end.' }
    },
    [jobEnd, router],
  )
  const act = useCallback(
    async (work: () => Promise<Outcome>, next?: string | (() => string)): Promise<boolean> => {
      setRunning(true)
      const here = location.pathname
      try {
        const outcome = await finished(await work())
        if (!outcome.ok) {
          toast.error(outcome.sentence)
          startTransition(() => router.refresh())
          return false
        }
        // Who went somewhere else meanwhile stays there.
        const goal = typeof next === 'function' ? next() : next
        startTransition(() => (goal && location.pathname === here ? router.push(goal) : router.refresh()))
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
    [finished, router],
  )
  const go = useCallback((path: string) => startTransition(() => router.push(path)), [router])
  return { act, go, finished, busy: running || refreshing || jobRuns }
}

/** A job of the move that the page shows keeps everything else of it waiting. */
export const JobRuns = createContext(false)

function jobOf(value: unknown): string | undefined {
  return typeof value === 'object' && value !== null && 'job' in value ? String(value.job) : undefined
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
