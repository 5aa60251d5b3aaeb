'use client'

import { useState } from 'react'
import { clsx } from 'clsx'
import { formatSize } from '@/core/bytes/size'
import type { SizeRange } from '@/core/fit/range'
import { fitSizes, type Layout } from '@/core/fit/types'
import type { DriveSurvey } from '@/core/survey/types'
import { BANDS, Hull } from '@/ui/shared/hull'
import { type HullPart, LEGIBLE, type PlacedPart, placeParts } from '@/ui/shared/hull-geometry'
import { withGaps } from '@/ui/shared/hull-parts'
import { HullLabels } from '@/ui/shared/hull-labels'
import { SizeHandle } from './size-handle'

const HEIGHT = 352
const TOP = 30

/** Measures of the drawing in its own units: room for the names at each side, then the hulls. */
const WIDE = { width: 740, hull: 118, names: 160 }
const NARROW = { width: 480, hull: 92, names: 122 }
type Measures = typeof WIDE

/** How the ends of partitions are moved. */
export interface Sizing {
  /** Partitions whose end can be taken, by number on the source. */
  readonly numbers: readonly number[]
  readonly rangeOf: (number: number) => SizeRange | undefined
  readonly onSize: (number: number, bytes: number, stroke?: string) => void
}

export interface Named {
  readonly model: string
  readonly serial: string
}

interface FitChartProps {
  readonly layout: Layout
  readonly source: Named
  readonly target: Named
  readonly selected: string
  readonly onSelect: (key: string) => void
  /** What is on the target now: a survey, words for a drive that was not surveyed, null for a disk not made yet. */
  readonly held: DriveSurvey | string | null
  readonly sizing?: Sizing
}

/** Source and target side by side, a band from each partition to where it goes. */
export function FitChart({ layout, source, target, selected, onSelect, held, sizing }: FitChartProps) {
  const drawing = { layout, selected, onSelect, held, sizing }
  const [scale, setScale] = useState<'legible' | 'true'>('legible')
  return (
    <figure className="panel p-4">
      <figcaption className="mb-1 flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1 text-[13.5px]">
        <span>
          <span className="font-bold">Source</span>{' '}
          <span className="font-mono text-ink-soft">
            {nameOf(source)} · {formatSize(layout.sourceSizeBytes)}
          </span>
        </span>
        <span className="flex items-baseline gap-1.5 text-ink-soft">
          Draw
          {(['legible', 'true'] as const).map((name) => (
            <button
              key={name}
              type="button"
              aria-pressed={scale === name}
              onClick={() => setScale(name)}
              className={clsx('rounded px-1', scale === name ? 'font-bold text-ink' : 'underline decoration-dotted')}
            >
              {name === 'true' ? 'to scale' : name}
            </button>
          ))}
        </span>
        <span>
          <span className="font-bold">Target</span>{' '}
          <span className="font-mono text-ink-soft">
            {nameOf(target)} · {formatSize(layout.targetSizeBytes)}
          </span>
        </span>
      </figcaption>
      <div className="max-sm:hidden">
        <Drawing measures={WIDE} scale={scale} {...drawing} />
      </div>
      <div className="sm:hidden">
        <Drawing measures={NARROW} scale={scale} {...drawing} />
      </div>
      <Held held={held} />
    </figure>
  )
}

/** What the target holds now, by name and use, since all of it will be gone. */
function Held({ held }: { held: DriveSurvey | string | null }) {
  if (held === null) return null
  if (typeof held === 'string') {
    return held && <p className="mt-2 text-[13.5px] text-vermilion">On the target now, and erased: {held}.</p>
  }
  if (held.scheme === 'none') return null
  const names = held.partitions.map((p) => `${p.title}, ${formatSize(p.volume?.usedBytes ?? p.sizeBytes)} used`)
  return (
    <p className="mt-2 text-[13.5px] text-vermilion">
      On the target now, and erased: {names.length > 0 ? names.join('; ') : 'something that cannot be told'}.
    </p>
  )
}

interface DrawingProps extends Pick<FitChartProps, 'layout' | 'selected' | 'onSelect' | 'held' | 'sizing'> {
  readonly measures: Measures
  readonly scale: 'legible' | 'true'
}

function Drawing({ measures, layout, scale, selected, onSelect, held, sizing }: DrawingProps) {
  const { width, hull, names } = measures
  const [sourceX, targetX] = [names, width - names - hull]
  const before = placeParts(sourceParts(layout), HEIGHT, scale)
  const after = placeParts(targetParts(layout), HEIGHT, scale)
  return (
    <svg
      viewBox={`0 0 ${width} ${TOP + HEIGHT + 14}`}
      className="w-full"
      // What can be taken hold of must not lie in a picture.
      role={sizing ? 'group' : 'img'}
      aria-label={describe(layout)}
    >
      <text x={sourceX + hull / 2} y="16" textAnchor="middle" fontSize="12.5" fill="var(--ink-soft)">
        stays as it is
      </text>
      <text x={targetX + hull / 2} y="16" textAnchor="middle" fontSize="12.5" fontWeight="700" fill="var(--vermilion)">
        {held === null ? 'made anew' : isEmpty(held) ? 'erased; it is empty now' : 'everything here is erased'}
      </text>
      {before.map((part) => {
        const goal = after.find((p) => p.key === part.key)
        if (!goal || part.role === 'unallocated') return null
        return (
          <Band key={part.key} from={part} to={goal} x1={sourceX + hull} x2={targetX} dim={selected !== part.key} />
        )
      })}
      <Hull parts={before} x={sourceX} y={TOP} width={hull} onSelect={onSelect} />
      <Hull parts={after} x={targetX} y={TOP} width={hull} selected={selected} onSelect={onSelect} />
      <HullLabels parts={before} x={sourceX} y={TOP} height={HEIGHT} side="left" room={names} />
      <HullLabels parts={after} x={targetX + hull} y={TOP} height={HEIGHT} side="right" room={names} />
      {sizing &&
        after
          .filter((part) => sizing.numbers.includes(Number(part.key)))
          .map((part) => (
            <SizeHandle
              key={part.key}
              title={part.title}
              x={targetX + hull / 2}
              y={TOP + part.top + part.height}
              bytes={part.sizeBytes}
              bounds={{ least: leastOf(layout, part.key), most: layout.targetSizeBytes }}
              bytesPerUnit={
                // A sliver is drawn larger than it is; dragging it goes by the drive's own scale.
                part.height > LEGIBLE ? part.sizeBytes / part.height : layout.targetSizeBytes / HEIGHT
              }
              selected={selected === part.key}
              rangeOf={() => sizing.rangeOf(Number(part.key))}
              onTake={() => onSelect(part.key)}
              onSize={(bytes, stroke) => sizing.onSize(Number(part.key), bytes, stroke)}
            />
          ))}
    </svg>
  )
}

interface BandProps {
  /** Where the hulls begin. */
  readonly top?: number
  readonly from: PlacedPart
  readonly to: PlacedPart
  readonly x1: number
  readonly x2: number
  readonly dim: boolean
}

/** From a part to where it goes. */
export function Band({ from, to, x1, x2, dim, top = TOP }: BandProps) {
  const middle = (x1 + x2) / 2
  const [a, b, c, d] = [top + from.top, top + from.top + from.height, top + to.top, top + to.top + to.height]
  return (
    <path
      d={`M${x1} ${a}C${middle} ${a} ${middle} ${c} ${x2} ${c}V${d}C${middle} ${d} ${middle} ${b} ${x1} ${b}Z`}
      fill={BANDS[from.role]}
      opacity={dim ? 0.55 : 0.75}
    />
  )
}

function leastOf(layout: Layout, key: string): number {
  return layout.partitions.find((p) => String(p.sourceNumber) === key)!.leastBytes
}

function isEmpty(held: DriveSurvey | string): boolean {
  return typeof held === 'string' ? held === '' : held.scheme === 'none'
}

export function nameOf({ model, serial }: Named): string {
  return serial ? `${model} · …${serial.slice(-4)}` : model
}

function sourceParts(layout: Layout): HullPart[] {
  return [...layout.partitions]
    .sort((a, b) => a.sourceFirstLba - b.sourceFirstLba)
    .map((p) => ({
      key: String(p.sourceNumber),
      title: p.title,
      role: p.role,
      sizeBytes: fitSizes(p, layout).before,
      usedBytes: p.usedBytes,
    }))
}

function targetParts(layout: Layout): HullPart[] {
  const partitions = layout.partitions.map((p) => ({
    firstLba: p.firstLba,
    part: {
      key: String(p.sourceNumber),
      title: p.label || p.title,
      role: p.role,
      sizeBytes: fitSizes(p, layout).after,
      usedBytes: p.usedBytes,
    },
  }))
  return withGaps(partitions, layout.gaps)
}

function describe(layout: Layout): string {
  return layout.partitions
    .map((p) => {
      const { before, after } = fitSizes(p, layout)
      return `${p.title}: ${formatSize(before)} becomes ${formatSize(after)}`
    })
    .join('; ')
}
