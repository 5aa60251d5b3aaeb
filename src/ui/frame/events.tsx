'use client'

import { useRouter } from 'next/navigation'
import {
  createContext,
  type ReactNode,
  useCallback,
  useContext,
  useEffect,
  useRef,
  useState,
  useTransition,
} from 'react'
import type { CopyProgress } from '@/core/copy/progress'
import type { JobView } from '@/core/job'
import { type PageState, showsAll } from '@/core/page-state'

type ProgressListener = (moveId: string, progress: CopyProgress, benchNow: number) => void

type JobListener = (job: JobView) => void

interface ListenerSets {
  readonly progress: Set<ProgressListener>
  readonly jobs: Set<JobListener>
}

const Listeners = createContext<ListenerSets | null>(null)

/** Notes that the page is being read anew; the returned function says that it was. */
const Rereading = createContext<() => () => void>(() => () => {})

/** Has changes wait while `reading`: what is read shows them too, mostly. */
export function useRereading(reading: boolean): void {
  const begin = useContext(Rereading)
  useEffect(() => (reading ? begin() : undefined), [reading, begin])
}

/** Whether the stream of events is open, or was a moment ago. */
const Connected = createContext(true)

/** A stream that is opened anew within this time was not missed. */
const GONE_AFTER_MS = 2500

/** Changes within this time are read in one. */
const REFRESH_AFTER_MS = 120

/** Whether the server is heard. Without it a page shows how things stood. */
export function useConnected(): boolean {
  return useContext(Connected)
}

/** One stream of events for the page, which was made of the state that `madeOf` names: changes make it read its state anew, progress goes to whoever listens. */
export function EventsProvider({ madeOf, children }: { madeOf: PageState; children: ReactNode }) {
  const router = useRouter()
  const [reading, startTransition] = useTransition()
  const readings = useRef(0)
  const shownState = useRef(madeOf)
  const newest = useRef(madeOf)
  const asked = useRef(madeOf)
  useEffect(() => {
    shownState.current = madeOf
  }, [madeOf])
  const readIfBehind = useCallback(() => {
    const state = newest.current
    // A page that asked for a change reads itself anew; and what cannot be read is not asked for without end.
    if (readings.current > 0 || asked.current === state || showsAll(shownState.current, state)) return
    asked.current = state
    startTransition(() => router.refresh())
  }, [router])
  const begin = useCallback(() => {
    readings.current++
    return () => {
      readings.current--
      // Once it is known what was shown.
      setTimeout(readIfBehind)
    }
  }, [readIfBehind])
  useEffect(() => (reading ? begin() : undefined), [reading, begin])
  const [connected, setConnected] = useState(true)
  const [listeners] = useState((): ListenerSets => ({ progress: new Set(), jobs: new Set() }))
  useEffect(() => {
    const source = new EventSource('/api/events')
    let timer: ReturnType<typeof setTimeout> | undefined
    let gone: ReturnType<typeof setTimeout> | undefined
    const refresh = (state: PageState) => {
      newest.current = state
      clearTimeout(timer)
      timer = setTimeout(readIfBehind, REFRESH_AFTER_MS)
    }
    source.addEventListener('open', () => {
      clearTimeout(gone)
      gone = undefined
      setConnected(true)
      document.documentElement.dataset.live = 'true'
    })
    source.addEventListener('state', (event) => {
      // Something may have changed since the page was made, or while the stream was broken.
      refresh(JSON.parse(event.data) as PageState)
    })
    source.addEventListener('changed', (event) => {
      const { moveId, state } = JSON.parse(event.data) as { moveId: string | null; state: PageState }
      // The page of one move shows nothing of another.
      const shown = /^\/moves\/([^/]+)\//.exec(location.pathname)?.[1]
      if (moveId === null || shown === undefined || shown === moveId) refresh(state)
    })
    source.addEventListener('progress', (event) => {
      const { moveId, progress, benchNow } = JSON.parse(event.data) as {
        moveId: string
        progress: CopyProgress
        benchNow: number
      }
      listeners.progress.forEach((listener) => listener(moveId, progress, benchNow))
    })
    source.addEventListener('job', (event) => {
      const { job } = JSON.parse(event.data) as { job: JobView }
      listeners.jobs.forEach((listener) => listener(job))
    })
    source.addEventListener('error', () => {
      gone ??= setTimeout(() => setConnected(false), GONE_AFTER_MS)
      document.documentElement.dataset.live = 'false'
    })
    return () => {
      clearTimeout(timer)
      clearTimeout(gone)
      source.close()
    }
  }, [readIfBehind, listeners])
  return (
    <Listeners.Provider value={listeners}>
      <Connected.Provider value={connected}>
        <Rereading.Provider value={begin}>{children}</Rereading.Provider>
      </Connected.Provider>
    </Listeners.Provider>
  )
}

/** Calls `listener` with the progress of running copies. */
export function useProgress(listener: ProgressListener): void {
  useListener((sets) => sets.progress, listener)
}

/** Calls `listener` with the state of jobs as they go on. */
export function useJobs(listener: JobListener): void {
  useListener((sets) => sets.jobs, listener)
}

/** How often a job is asked about while no event tells of it. */
const ASK_EVERY_MS = 3000

/** Returns a function that waits for the end of a job, through reloads of the server too. */
export function useJobEnd(): (id: string) => Promise<JobView> {
  const listeners = useContext(Listeners)
  return useCallback(
    (id) =>
      new Promise((resolve) => {
        const told = (job: JobView) => {
          if (job.id !== id || job.state === 'running') return
          clearInterval(timer)
          listeners?.jobs.delete(told)
          resolve(job)
        }
        const ask = async () => {
          const answer = await fetch(`/api/jobs/${id}`).then((response) => response.json() as Promise<JobAnswer>)
          if (answer.ok) told(answer.value)
        }
        const askAgain = () => void ask().catch(() => undefined)
        const timer = setInterval(askAgain, ASK_EVERY_MS)
        listeners?.jobs.add(told)
        // It may have ended before anybody listened.
        askAgain()
      }),
    [listeners],
  )
}

type JobAnswer = { ok: true; value: JobView } | { ok: false }

type Listener<A extends unknown[]> = (...what: A) => void

/** Has the newest `listener` called for what goes to one of the sets; which one never changes. */
function useListener<A extends unknown[]>(
  setOf: (sets: ListenerSets) => Set<Listener<A>>,
  listener: Listener<A>,
): void {
  const listeners = useContext(Listeners)
  const latest = useRef({ setOf, listener })
  useEffect(() => {
    latest.current = { setOf, listener }
  })
  useEffect(() => {
    const call: Listener<A> = (...what) => latest.current.listener(...what)
    const set = listeners && latest.current.setOf(listeners)
    set?.add(call)
    return () => void set?.delete(call)
  }, [listeners])
}
