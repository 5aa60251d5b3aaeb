'use client'

import { useRouter } from 'next/navigation'
import { createContext, type ReactNode, useContext, useEffect, useRef } from 'react'
import type { CopyProgress } from '@/ui/copy/types'

type ProgressListener = (moveId: string, progress: CopyProgress) => void

const Listeners = createContext<Set<ProgressListener> | null>(null)

/** One stream of events for the page: changes make it read its state anew, progress goes to whoever listens. */
export function EventsProvider({ children }: { children: ReactNode }) {
  const router = useRouter()
  const listeners = useRef(new Set<ProgressListener>())
  useEffect(() => {
    const source = new EventSource('/api/events')
    let timer: ReturnType<typeof setTimeout> | undefined
    let opened = false
    const refresh = () => {
      clearTimeout(timer)
      timer = setTimeout(() => router.refresh(), 120)
    }
    source.addEventListener('open', () => {
      // After a break something may have been missed.
      if (opened) refresh()
      opened = true
      document.documentElement.dataset.live = 'true'
    })
    source.addEventListener('changed', refresh)
    source.addEventListener('progress', (event) => {
      const { moveId, progress } = JSON.parse(event.data) as { moveId: string; progress: CopyProgress }
      listeners.current.forEach((listener) => listener(moveId, progress))
    })
    source.addEventListener('error', () => {
      document.documentElement.dataset.live = 'false'
    })
    return () => {
      clearTimeout(timer)
      source.close()
    }
  }, [router])
  return <Listeners.Provider value={listeners.current}>{children}</Listeners.Provider>
}

/** Calls `listener` with the progress of running copies. */
export function useProgress(listener: ProgressListener): void {
  const listeners = useContext(Listeners)
  const latest = useRef(listener)
  useEffect(() => {
    latest.current = listener
  })
  useEffect(() => {
    const call: ProgressListener = (moveId, progress) => latest.current(moveId, progress)
    listeners?.add(call)
    return () => void listeners?.delete(call)
  }, [listeners])
}
