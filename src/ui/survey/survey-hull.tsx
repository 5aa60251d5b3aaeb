'use client'

import { Hull } from '@/ui/shared/hull'
import { type HullPart, placeParts } from '@/ui/shared/hull-geometry'
import { HullLabels } from '@/ui/shared/hull-labels'
import type { PlateDrive } from '@/ui/shared/plate'
import { formatSize } from '@/core/bytes/size'

interface SurveyHullProps {
  readonly title: string
  readonly drive: PlateDrive
  readonly parts: readonly HullPart[]
  readonly scheme: string
  readonly selected?: string
  readonly onSelect?: (key: string) => void
}

const HEIGHT = 250

/** One drive as a hull with the names of its parts. */
export function SurveyHull({ title, drive, parts, scheme, selected, onSelect }: SurveyHullProps) {
  const placed = placeParts(parts, HEIGHT, 'legible')
  return (
    <figure>
      <figcaption className="mb-2 text-[13.5px]">
        <span className="font-bold">{title}</span> {drive.name}{' '}
        <span className="font-mono text-ink-soft">{formatSize(drive.sizeBytes)}</span>
        <span className="block text-[13px] text-ink-soft">{scheme}</span>
      </figcaption>
      <svg
        viewBox={`0 0 340 ${HEIGHT + 4}`}
        className="w-full max-w-[420px]"
        role="img"
        aria-label={`${drive.name}: ${parts.map((p) => `${p.title} ${formatSize(p.sizeBytes)}`).join(', ')}`}
      >
        <Hull parts={placed} x={4} y={2} width={124} selected={selected} onSelect={onSelect} />
        <HullLabels parts={placed} x={132} y={2} height={HEIGHT} side="right" />
      </svg>
    </figure>
  )
}
