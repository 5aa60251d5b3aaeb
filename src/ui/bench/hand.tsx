'use client'

import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useState } from 'react'
import { DndContext, DragOverlay, MouseSensor, TouchSensor, useSensor, useSensors } from '@dnd-kit/core'
import { toast } from 'sonner'
import { post, useAct } from '@/ui/frame/act'
import { type PlaceOption, placesFor } from '@/core/things/places'
import type { BenchState } from '@/core/things/bench'
import { Dialog } from '@/ui/shared/dialog'
import type { DriveView } from './types'

interface Hand {
  /** The drive in hand. */
  readonly drive?: DriveView
  readonly busy: boolean
  pickUp(id: string): void
  putBack(): void
  /** Where the drive in hand would go: undefined where it sits now. */
  placeFor(key: string): PlaceOption | undefined
  putInto(key: string): void
}

const HandContext = createContext<Hand | null>(null)

export function useHand(): Hand {
  const hand = useContext(HandContext)
  if (!hand) throw new Error('HandProvider is missing.')
  return hand
}

interface HandProviderProps {
  readonly drives: readonly DriveView[]
  /** What is shown of the bench: where the drive in hand can go is worked out from it. The server looks again. */
  readonly things: BenchState
  /** How a drive looks while it is carried. */
  readonly carried: (drive: DriveView) => ReactNode
  readonly onPick: (id: string) => void
  readonly children: ReactNode
}

/**
 * The one drive that is in hand, however it was picked up: dragged, or by a key or a tap on its handle. A drive
 * goes only where it fits; elsewhere its reason is shown before it is let go and said when it is.
 */
export function HandProvider({ drives, things, carried, onPick, children }: HandProviderProps) {
  const { act, busy } = useAct()
  const [held, setHeld] = useState<string>()
  const sensors = useSensors(
    useSensor(MouseSensor, { activationConstraint: { distance: 6 } }),
    useSensor(TouchSensor, { activationConstraint: { delay: 180, tolerance: 8 } }),
  )
  const drive = drives.find((d) => d.id === held)
  const placesOf = useCallback(
    (id: string) => {
      const thing = things.drives.find((d) => d.id === id)
      return thing ? placesFor(thing, things) : []
    },
    [things],
  )
  const places = useMemo(() => (held === undefined ? [] : placesOf(held)), [held, placesOf])

  /** What is asked about before it is done: it cuts something off. */
  const [asked, setAsked] = useState<{ id: string; option: PlaceOption; sentence: string }>()
  const send = useCallback(
    async (id: string, option: PlaceOption, meant: boolean) => {
      let cuts: string | undefined
      await act(async () => {
        const answer = await post(`/api/bench/drives/${id}/place`, { place: option.place, meant })
        if (answer.ok || answer.code !== 'drive-cuts-off') return answer
        cuts = answer.sentence
        return { ok: true }
      })
      setAsked(cuts === undefined ? undefined : { id, option, sentence: cuts })
    },
    [act],
  )
  const put = useCallback(
    (id: string, key: string) => {
      setHeld(undefined)
      const way = placesOf(id).find((p) => p.key === key)
      if (!way) return
      if (way.why) {
        toast.error(way.why)
        return
      }
      void send(id, way, false)
    },
    [send, placesOf],
  )

  useEffect(() => {
    if (held === undefined) return
    const onKey = (event: KeyboardEvent) => {
      if (event.key === 'Escape') setHeld(undefined)
      if (event.key !== 'Tab') return
      // With a drive in hand the tabulator goes from one place that takes it to the next.
      const targets = [...document.querySelectorAll<HTMLElement>('[data-put]')]
      if (targets.length === 0) return
      event.preventDefault()
      const at = targets.indexOf(document.activeElement as HTMLElement)
      const step = event.shiftKey ? -1 : 1
      targets[(at + step + targets.length) % targets.length].focus()
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [held])

  const hand = useMemo<Hand>(
    () => ({
      drive,
      busy,
      pickUp: (id) => {
        setHeld(id)
        onPick(id)
      },
      putBack: () => setHeld(undefined),
      placeFor: (key) => places.find((p) => p.key === key),
      putInto: (key) => {
        if (held !== undefined) put(held, key)
      },
    }),
    [drive, busy, held, places, put, onPick],
  )
  return (
    <HandContext.Provider value={hand}>
      <DndContext
        id="bench"
        sensors={sensors}
        onDragStart={({ active }) => hand.pickUp(String(active.id))}
        onDragEnd={({ active, over }) => {
          if (over) put(String(active.id), String(over.id))
          else setHeld(undefined)
        }}
        onDragCancel={() => setHeld(undefined)}
      >
        {asked && (
          <Dialog
            title="Pull it in the middle?"
            open
            onClose={() => setAsked(undefined)}
            action="Pull it all the same"
            onAct={() => void send(asked.id, asked.option, true)}
            erases
          >
            <p>{asked.sentence}</p>
          </Dialog>
        )}
        {children}
        <DragOverlay dropAnimation={null}>{drive ? carried(drive) : null}</DragOverlay>
      </DndContext>
    </HandContext.Provider>
  )
}
