'use client'

import { useDrag } from '@use-gesture/react'
import { formatSize, GIB, MIB } from '@/core/bytes/size'
import type { SizeRange } from '@/core/fit/range'

interface SizeHandleProps {
  readonly title: string
  /** Middle of the handle in the drawing's units. */
  readonly x: number
  readonly y: number
  readonly bytes: number
  /** What no size of it is below or above, for those who hear the handle. */
  readonly bounds: SizeRange
  /** Bytes that one unit of the drawing stands for where the handle is. */
  readonly bytesPerUnit: number
  readonly selected: boolean
  /** Asked when a drag begins, since it takes a fit of its own. */
  readonly rangeOf: () => SizeRange | undefined
  readonly onTake: () => void
  readonly onSize: (bytes: number, stroke?: string) => void
}

interface Grip {
  readonly from: number
  readonly perPixel: number
  readonly range: SizeRange
  readonly stroke: string
}

let strokes = 0

/** The lower end of a partition, to be dragged, or moved by arrow keys: 1 MiB a step, with Shift 1 GiB. */
export function SizeHandle(props: SizeHandleProps) {
  const { title, x, y, bytes, bounds, bytesPerUnit, selected, rangeOf, onTake, onSize } = props
  const bind = useDrag(
    ({ first, movement: [, moved], memo, event }): Grip | undefined => {
      if (first) {
        onTake()
        const range = rangeOf()
        if (!range) return undefined
        const units = (event.currentTarget as SVGGElement | null)?.ownerSVGElement?.getScreenCTM()?.d ?? 1
        return { from: bytes, perPixel: bytesPerUnit / units, range, stroke: `drag ${++strokes}` }
      }
      const grip = memo as Grip | undefined
      if (!grip) return undefined
      const asked = Math.round((grip.from + moved * grip.perPixel) / MIB) * MIB
      onSize(clamp(asked, grip.range), grip.stroke)
      return grip
    },
    { filterTaps: true, pointer: { keys: false }, eventOptions: { passive: false } },
  )
  const onKeyDown = (event: React.KeyboardEvent) => {
    const step = event.shiftKey ? GIB : MIB
    const change = { ArrowDown: step, ArrowRight: step, ArrowUp: -step, ArrowLeft: -step }[event.key]
    const range = change !== undefined || event.key === 'Home' || event.key === 'End' ? rangeOf() : undefined
    if (!range) return
    event.preventDefault()
    onTake()
    const asked = change === undefined ? (event.key === 'Home' ? range.least : range.most) : bytes + change
    onSize(clamp(asked, range), `keys ${title}`)
  }
  return (
    <g
      {...bind()}
      onKeyDown={onKeyDown}
      role="slider"
      tabIndex={0}
      aria-orientation="vertical"
      aria-label={`End of ${title}`}
      aria-valuemin={Math.floor(bounds.least / MIB)}
      aria-valuemax={Math.ceil(bounds.most / MIB)}
      aria-valuenow={Math.round(bytes / MIB)}
      aria-valuetext={formatSize(bytes)}
      className="cursor-ns-resize touch-none outline-none [&:focus-visible>rect:last-child]:stroke-magenta [&:focus-visible>rect:last-child]:stroke-3"
    >
      <rect x={x - 46} y={y - 13} width="92" height="26" fill="transparent" />
      <rect
        x={x - 16}
        y={y - 4.5}
        width="32"
        height="9"
        rx="4.5"
        fill="var(--sheet)"
        stroke={selected ? 'var(--magenta)' : 'var(--ink)'}
        strokeWidth={selected ? 2 : 1.4}
      />
    </g>
  )
}

function clamp(bytes: number, { least, most }: SizeRange): number {
  return Math.min(most, Math.max(least, bytes))
}
