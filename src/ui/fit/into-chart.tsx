'use client'

import { formatSize } from '@/core/bytes/size'
import type { IntoPlace } from '@/core/fit/into'
import type { Layout } from '@/core/fit/types'
import { fitSizes } from '@/core/fit/types'
import type { DriveSurvey, PartitionSurvey } from '@/core/survey/types'
import { Hull } from '@/ui/shared/hull'
import { type HullPart, placeParts } from '@/ui/shared/hull-geometry'
import { HullLabels } from '@/ui/shared/hull-labels'
import { withGaps } from '@/ui/shared/hull-parts'
import { Band, type Named, nameOf } from './fit-chart'

const HEIGHT = 320
const TOP = 30
const WIDE = { width: 740, hull: 118, names: 160 }
const NARROW = { width: 480, hull: 92, names: 122 }

interface IntoChartProps {
  readonly source: Named
  readonly target: Named
  readonly sourceSurvey: DriveSurvey
  readonly targetSurvey: DriveSurvey
  /** Number of the volume on the source. */
  readonly volume: number
  /** Where it goes; undefined while nothing fits. */
  readonly layout: Layout | undefined
  readonly places: readonly IntoPlace[]
  readonly onPlace: (place: IntoPlace) => void
}

/** The whole of both drives: what goes, where it comes to, and all that stays. */
export function IntoChart(props: IntoChartProps) {
  const { source, target, sourceSurvey, targetSurvey } = props
  return (
    <figure className="panel p-4">
      <figcaption className="mb-1 flex flex-wrap justify-between gap-x-4 text-[13.5px]">
        <span>
          <span className="font-bold">Source</span>{' '}
          <span className="font-mono text-ink-soft">
            {nameOf(source)} · {formatSize(sourceSurvey.sizeBytes)}
          </span>
        </span>
        <span>
          <span className="font-bold">Target</span>{' '}
          <span className="font-mono text-ink-soft">
            {nameOf(target)} · {formatSize(targetSurvey.sizeBytes)}
          </span>
        </span>
      </figcaption>
      <div className="max-sm:hidden">
        <Drawing measures={WIDE} {...props} />
      </div>
      <div className="sm:hidden">
        <Drawing measures={NARROW} {...props} />
      </div>
    </figure>
  )
}

function Drawing({
  measures,
  sourceSurvey,
  targetSurvey,
  volume,
  layout,
  places,
  onPlace,
}: IntoChartProps & { measures: typeof WIDE }) {
  const { width, hull, names } = measures
  const [sourceX, targetX] = [names, width - names - hull]
  const before = placeParts(partsOf(sourceSurvey), HEIGHT, 'legible')
  const after = placeParts(targetParts(targetSurvey, layout), HEIGHT, 'legible')
  const from = before.find((p) => p.key === String(volume))
  const to = layout && after.find((p) => p.key === String(layout.partitions[0].number))
  const choose = (key: string) => {
    const place = places.find((p) => key === String(p.into))
    if (place) onPlace(place)
  }
  return (
    <svg viewBox={`0 0 ${width} ${TOP + HEIGHT + 14}`} className="w-full" role="img" aria-label={describe(layout)}>
      <text x={sourceX + hull / 2} y="16" textAnchor="middle" fontSize="12.5" fill="var(--ink-soft)">
        stays as it is
      </text>
      <text x={targetX + hull / 2} y="16" textAnchor="middle" fontSize="12.5" fontWeight="700" fill="var(--vermilion)">
        {to ? 'one partition is written' : 'nothing is written'}
      </text>
      {from && to && <Band from={from} to={to} x1={sourceX + hull} x2={targetX} dim={false} top={TOP} />}
      <Hull parts={before} x={sourceX} y={TOP} width={hull} selected={String(volume)} />
      <Hull parts={after} x={targetX} y={TOP} width={hull} selected={to?.key} onSelect={choose} />
      <HullLabels parts={before} x={sourceX} y={TOP} height={HEIGHT} side="left" room={names} />
      <HullLabels parts={after} x={targetX + hull} y={TOP} height={HEIGHT} side="right" room={names} />
    </svg>
  )
}

const partOf = ({ number, title, role, sizeBytes, volume }: PartitionSurvey): HullPart => ({
  key: String(number),
  title,
  role,
  sizeBytes,
  usedBytes: volume?.usedBytes ?? 0,
})

function partsOf({ partitions, gaps }: Pick<DriveSurvey, 'partitions' | 'gaps'>): HullPart[] {
  const shown = partitions.filter((p) => p.role !== 'extended')
  return withGaps(
    shown.map((p) => ({ firstLba: p.firstLba, part: partOf(p) })),
    gaps,
  )
}

/** The target as it will be: the volume in its place, all else as it is. */
function targetParts({ partitions, gaps, logicalSectorSize: sector }: DriveSurvey, layout: Layout | undefined) {
  const into = layout?.partitions[0]
  const kept = partitions
    .filter((p) => p.role !== 'extended' && p.number !== into?.number)
    .map((p) => ({ firstLba: p.firstLba, part: partOf(p) }))
  if (!into || !layout) return partsOf({ partitions, gaps })
  const { title, label, role, usedBytes, firstLba, lastLba, number } = into
  const sizeBytes = fitSizes(into, layout).after
  const placed = { firstLba, part: { key: String(number), title: label || title, role, sizeBytes, usedBytes } }
  const left = gaps.flatMap((gap) => {
    if (lastLba < gap.firstLba || firstLba > gap.lastLba) return [gap]
    const behind = { firstLba: lastLba + 1, lastLba: gap.lastLba, sizeBytes: (gap.lastLba - lastLba) * sector }
    return behind.sizeBytes > 0 ? [behind] : []
  })
  return withGaps([...kept, placed], left)
}

function describe(layout: Layout | undefined): string {
  if (!layout) return 'Nothing fits'
  const [p] = layout.partitions
  const { before, after } = fitSizes(p, layout)
  return `${p.title} goes into partition ${p.number}: ${formatSize(before)} becomes ${formatSize(after)}; all else stays`
}
