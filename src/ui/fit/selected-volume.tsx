'use client'

import { useState } from 'react'
import { clsx } from 'clsx'
import { formatSize, groupDigits, MIB, parseSize } from '@/core/bytes/size'
import { fitSizes } from '@/core/fit/solve'
import type { FitPartition, FitWish, Layout, SizeRule } from '@/core/fit/types'
import type { PartitionSurvey } from '@/core/survey/types'
import { AsideBlock } from '@/ui/frame/stage'
import { Callout } from '@/ui/shared/callout'
import { Facts } from '@/ui/shared/facts'

const RULES: readonly { rule: SizeRule; says: string }[] = [
  { rule: 'keep', says: 'Stays as large as it is.' },
  { rule: 'fill', says: 'Takes what is left.' },
  { rule: 'share', says: 'Grows as the drive has grown.' },
  { rule: 'set', says: 'Has the size you type.' },
]

interface SelectedVolumeProps {
  readonly original: PartitionSurvey
  /** Where it goes; undefined while what is asked does not fit. */
  readonly partition?: FitPartition
  readonly layout?: Layout
  readonly wish: FitWish
  readonly locked: boolean
  readonly onWish: (wish: FitWish) => void
}

/** The volume that is selected: its rule, its size, what becomes of it. */
export function SelectedVolume({ original, partition, layout, wish, locked, onWish }: SelectedVolumeProps) {
  const { volume, number } = original
  const rule = volume?.canGrow ? (wish.rules[number] ?? 'keep') : 'keep'
  const choose = (next: SizeRule) => {
    const sizes = next === 'set' && !wish.sizes[number] ? { ...wish.sizes, [number]: original.sizeBytes } : wish.sizes
    onWish({ ...wish, rules: { ...wish.rules, [number]: next }, sizes })
  }
  return (
    <AsideBlock title="Selected volume">
      <p className="mb-3 text-[19px] font-bold">
        {original.title}{' '}
        {volume && (
          <span className="rounded border border-sea-4 px-1.5 align-middle font-mono text-xs text-sea-4">
            {volume.name}
          </span>
        )}
      </p>
      <p className="mb-1.5 text-ink-soft" id="rule-label">
        Size rule
      </p>
      <div
        role="radiogroup"
        aria-labelledby="rule-label"
        className="grid grid-cols-4 divide-x divide-line overflow-hidden rounded-md border border-line-strong"
      >
        {RULES.map((choice) => {
          const on = rule === choice.rule
          return (
            <button
              key={choice.rule}
              type="button"
              role="radio"
              aria-checked={on}
              disabled={locked || (choice.rule !== 'keep' && !volume?.canGrow)}
              onClick={() => choose(choice.rule)}
              className={clsx(
                'py-1.5 font-semibold capitalize',
                on ? 'bg-ink text-paper' : 'text-ink-soft disabled:line-through',
              )}
            >
              {choice.rule}
            </button>
          )
        })}
      </div>
      <p className="mt-1.5 mb-4 text-[13px] text-ink-soft">
        {volume?.canGrow
          ? RULES.find((r) => r.rule === rule)?.says
          : 'What is in it cannot grow, so it keeps its size.'}
      </p>
      {rule === 'set' && !locked && (
        <SizeField
          key={number}
          now={original.sizeBytes}
          bytes={wish.sizes[number] ?? original.sizeBytes}
          onSize={(bytes) => onWish({ ...wish, sizes: { ...wish.sizes, [number]: bytes } })}
        />
      )}
      {partition && layout && <VolumeFacts original={original} partition={partition} layout={layout} />}
    </AsideBlock>
  )
}

function VolumeFacts({
  original,
  partition,
  layout,
}: {
  original: PartitionSurvey
  partition: FitPartition
  layout: Layout
}) {
  const { before, after } = fitSizes(partition, layout.sectorSize)
  const kept = original.number === partition.number && original.guid === partition.guid
  const aligned = (partition.firstLba * layout.sectorSize) % MIB === 0
  return (
    <>
      <Facts
        facts={[
          { name: 'Size after', value: formatSize(after), mono: true },
          { name: 'Size now', value: formatSize(before), mono: true },
          { name: 'Last file ends at', value: formatSize(partition.smallestBytes), mono: true },
          { name: 'To copy', value: formatSize(partition.usedBytes), mono: true },
          {
            name: 'Sectors',
            mono: true,
            value: (
              <>
                {groupDigits(partition.firstLba)} –<br />
                {groupDigits(partition.lastLba)}
              </>
            ),
          },
          { name: 'Alignment', value: aligned ? '1 MiB, good' : 'off 1 MiB', tone: aligned ? 'good' : 'caution' },
          { name: 'Number and GUID', value: kept ? 'kept' : 'changed', tone: kept ? undefined : 'caution' },
        ]}
      />
      {partition.role === 'system' && kept && (
        <div className="mt-4">
          <Callout>Boot settings point at this volume by its GUID. It is kept, so they still hold.</Callout>
        </div>
      )}
    </>
  )
}

/** A size as people type it. What is not a size is said, and the last good one stays. */
function SizeField({ now, bytes, onSize }: { now: number; bytes: number; onSize: (bytes: number) => void }) {
  const [text, setText] = useState(formatSize(bytes))
  const parsed = parseSize(text, now)
  return (
    <label className="mb-4 block">
      <span className="mb-1 block text-ink-soft">Size, such as 350 GiB, 0.5 TB or +20 %</span>
      <input
        value={text}
        aria-invalid={parsed === undefined}
        onChange={(event) => {
          setText(event.target.value)
          const next = parseSize(event.target.value, now)
          if (next !== undefined) onSize(next)
        }}
        className="w-full rounded-md border border-line-strong bg-paper px-3 py-1.5 text-right font-mono aria-invalid:border-vermilion"
      />
      {parsed === undefined && <span className="text-[13px] text-vermilion">That is not a size.</span>}
    </label>
  )
}
