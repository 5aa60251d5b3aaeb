'use client'

import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useState } from 'react'
import { DndContext, DragOverlay, MouseSensor, TouchSensor, useSensor, useSensors } from '@dnd-kit/core'
import { toast } from 'sonner'
import { post, useAct } from '@/ui/frame/act'
import type { DriveView, Way } from './types'

interface Hand {
  /** The drive in hand. */
  readonly drive?: DriveView
  readonly busy: boolean
  pickUp(id: string): void
  putBack(): void
  /** Where the drive in hand would go: undefined where it sits now. */
  wayTo(key: string): Way | undefined
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
  readonly ways: Readonly<Record<string, readonly Way[]>>
  /** How a drive looks while it is carried. */
  readonly carried: (drive: DriveView) => ReactNode
  readonly onPick: (id: string) => void
  readonly children: ReactNode
}

/**
 * The one drive that is in hand, however it was picked up: dragged, or by a key or a tap on its handle. A drive
 * goes only where it fits; elsewhere its reason is shown before it is let go and said when it is.
 */
export function HandProvider({ drives, ways, carried, onPick, children }: HandProviderProps) {
  const { act, busy } = useAct()
  const [held, setHeld] = useState<string>()
  const sensors = useSensors(
    useSensor(MouseSensor, { activationConstraint: { distance: 6 } }),
    useSensor(TouchSensor, { activationConstraint: { delay: 180, tolerance: 8 } }),
  )
  const drive = drives.find((d) => d.id === held)

  const put = useCallback(
    (id: string, key: string) => {
      setHeld(undefined)
      const way = ways[id]?.find((w) => w.key === key)
      if (!way) return
      if (way.why) {
        toast.error(way.why)
        return
      }
      void act(() => post(`/api/bench/drives/${id}/place`, { place: way.place }))
    },
    [act, ways],
  )

  useEffect(() => {
    if (held === undefined) return
    const onKey = (event: KeyboardEvent) => {
      if (event.key === 'Escape') setHeld(undefined)
      if (event.key !== 'Tab') return
      // With a drive in hand the tabulator goes from one place that takes it to the next.
      const places = [...document.querySelectorAll<HTMLElement>('[data-put]')]
      if (places.length === 0) return
      event.preventDefault()
      const at = places.indexOf(document.activeElement as HTMLElement)
      const step = event.shiftKey ? -1 : 1
      places[(at + step + places.length) % places.length].focus()
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
      wayTo: (key) => (held === undefined ? undefined : ways[held]?.find((w) => w.key === key)),
      putInto: (key) => {
        if (held !== undefined) put(held, key)
      },
    }),
    [drive, busy, held, ways, put, onPick],
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
        {children}
        <DragOverlay dropAnimation={null}>{drive ? carried(drive) : null}</DragOverlay>
      </DndContext>
    </HandContext.Provider>
  )
}
