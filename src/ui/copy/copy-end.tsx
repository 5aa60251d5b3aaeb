'use client'

import { useEffect, useRef, useState, useSyncExternalStore } from 'react'
import { Button } from '@/ui/shared/button'

const KEY = 'imbarco-bell'
const TITLE = 'Copy · Imbarco'

/** Where the wish for a bell is kept: of this browser, not of the move. */
function subscribe(listener: () => void): () => void {
  window.addEventListener('storage', listener)
  return () => window.removeEventListener('storage', listener)
}

const wanted = () => localStorage.getItem(KEY) === 'on'

interface CopyEnd {
  readonly id: string
  readonly status: string
  readonly running: boolean
  readonly heading: string
  /** How much of it is done, 0 to 1. */
  readonly share: number
}

/** Keeps the progress in the tab's title, and when the copy ends says so by sound and notification, if that is wished. */
export function useCopyEnd({ id, status, running, heading, share }: CopyEnd): void {
  const seen = useRef<string | undefined>(undefined)
  useTitle(running ? `${Math.floor(share * 100)} % · ${TITLE}` : TITLE)
  useEffect(() => {
    const ended = seen.current === id && !running
    seen.current = running ? id : undefined
    if (!ended || !wanted()) return
    sound(status === 'done')
    if ('Notification' in window && Notification.permission === 'granted')
      new Notification('Imbarco', { body: heading })
  }, [id, running, status, heading])
}

/** Keeps the tab's title; a page that is read anew puts its own there again. */
function useTitle(title: string): void {
  useEffect(() => {
    const keep = () => {
      if (document.title !== title) document.title = title
    }
    keep()
    const observer = new MutationObserver(keep)
    observer.observe(document.head, { childList: true, subtree: true, characterData: true })
    return () => observer.disconnect()
  }, [title])
}

/** Two notes, rising when it is done and falling when it is not. */
function sound(good: boolean): void {
  const context = new AudioContext()
  for (const [i, pitch] of (good ? [523, 784] : [392, 262]).entries()) {
    const tone = context.createOscillator()
    const volume = context.createGain()
    const at = context.currentTime + i * 0.22
    tone.frequency.value = pitch
    volume.gain.setValueAtTime(0.15, at)
    volume.gain.exponentialRampToValueAtTime(0.001, at + 0.6)
    tone.connect(volume).connect(context.destination)
    tone.start(at)
    tone.stop(at + 0.6)
  }
}

/** Asks to be told when the copy ends. */
export function Bell() {
  const stored = useSyncExternalStore(subscribe, wanted, () => false)
  const [changed, setChanged] = useState<boolean>()
  const on = changed ?? stored
  return (
    <div className="flex items-center justify-between gap-3">
      <span className="text-[13px] text-ink-soft">Sound and notification at the end</span>
      <Button
        small
        aria-pressed={on}
        onClick={() => {
          localStorage.setItem(KEY, on ? 'off' : 'on')
          setChanged(!on)
          if (!on && 'Notification' in window && Notification.permission === 'default') {
            void Notification.requestPermission()
          }
        }}
      >
        {on ? 'On' : 'Off'}
      </Button>
    </div>
  )
}
