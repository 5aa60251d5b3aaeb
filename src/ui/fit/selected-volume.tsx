'use client'

import { useState } from 'react'
import { clsx } from 'clsx'
import { formatSize, groupDigits, parseSize } from '@/core/bytes/size'
import { canBeCalled, labelProblem } from '@/core/filesystem/label-rule'
import { limitsOf } from '@/core/fit/limits'
import type { SizeRange } from '@/core/fit/range'
import { type FitPartition, fitSizes, type FitWish, type Layout, type SizeRule } from '@/core/fit/types'
import type { PartitionSurvey } from '@/core/survey/types'
import { AsideBlock } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { Facts } from '@/ui/shared/facts'

const RULES: readonly { rule: SizeRule; says: string }[] = [
  { rule: 'keep', says: 'Stays as large as it is.' },
  { rule: 'fill', says: 'Takes what is left.' },
  { rule: 'share', says: 'Grows or shrinks as the drive does.' },
  { rule: 'set', says: 'Has the size you type or drag.' },
  { rule: 'least', says: 'As small as its files let it be.' },
]

interface SelectedVolumeProps {
  readonly original: PartitionSurvey
  /** Where it goes; undefined while what is asked does not fit. */
  readonly partition?: FitPartition
  readonly layout?: Layout
  readonly wish: FitWish
  /** Partitions of the target in order, by number on the source. */
  readonly order: readonly number[]
  readonly range?: SizeRange
  readonly locked: boolean
  readonly onWish: (wish: FitWish, stroke?: string) => void
  readonly onSize: (bytes: number, stroke?: string) => void
}

/** The volume that is selected: its rule, its size, its place, what becomes of it. */
export function SelectedVolume(props: SelectedVolumeProps) {
  const { original, partition, layout, wish, locked, range, onWish, onSize } = props
  const { volume, number } = original
  const limits = limitsOf(original)
  const isOut = (wish.leaveOut ?? []).includes(number)
  const fixed = !volume || limits.notNow !== undefined
  const rule = fixed ? 'keep' : (wish.rules[number] ?? 'keep')
  const now = partition && layout ? fitSizes(partition, layout).after : original.sizeBytes
  const choose = (next: SizeRule) => {
    const sizes = next === 'set' ? { ...wish.sizes, [number]: now } : wish.sizes
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
      {!isOut && (
        <>
          <p className="mb-1.5 text-ink-soft" id="rule-label">
            Size rule
          </p>
          <div
            role="radiogroup"
            aria-labelledby="rule-label"
            className="grid grid-cols-5 divide-x divide-line overflow-hidden rounded-md border border-line-strong"
          >
            {RULES.map((choice) => {
              const on = rule === choice.rule
              return (
                <button
                  key={choice.rule}
                  type="button"
                  role="radio"
                  aria-checked={on}
                  disabled={locked || (choice.rule !== 'keep' && fixed)}
                  onClick={() => choose(choice.rule)}
                  className={clsx(
                    'py-1.5 text-[13.5px] font-semibold capitalize',
                    on ? 'bg-ink text-paper' : 'text-ink-soft disabled:opacity-45',
                  )}
                >
                  {choice.rule}
                </button>
              )
            })}
          </div>
          <p className="mt-1.5 mb-4 text-[13px] text-ink-soft">
            {limits.notNow ??
              (volume ? RULES.find((r) => r.rule === rule)?.says : 'What is in it is not known, so it keeps its size.')}
          </p>
          {!fixed && !locked && (
            <SizeField
              key={number}
              now={original.sizeBytes}
              bytes={rule === 'set' ? (wish.sizes[number] ?? now) : now}
              range={range}
              onSize={(bytes) => onSize(bytes, `typed ${number}`)}
            />
          )}
          {volume && !fixed && canBeCalled(volume.kind) && (
            <LabelField
              key={`label of ${number}`}
              kind={volume.kind}
              label={wish.labels?.[number] ?? volume.label}
              locked={locked}
              onLabel={(label) => onWish({ ...wish, labels: { ...wish.labels, [number]: label } }, `called ${number}`)}
            />
          )}
          {partition && layout && <VolumeFacts original={original} partition={partition} layout={layout} />}
        </>
      )}
      {!locked && <Place {...props} isOut={isOut} />}
    </AsideBlock>
  )
}

/** Where it stands among the others, and whether it comes along at all. */
function Place({ original, wish, order, onWish, isOut }: SelectedVolumeProps & { isOut: boolean }) {
  const { number, title, role } = original
  const at = order.indexOf(number)
  const move = (by: number) => {
    const next = [...order]
    next.splice(at, 1)
    next.splice(at + by, 0, number)
    onWish({ ...wish, order: next })
  }
  const takeOrLeave = () => {
    const others = (wish.leaveOut ?? []).filter((n) => n !== number)
    onWish({ ...wish, leaveOut: isOut ? others : [...others, number] })
  }
  return (
    <div className="mt-4 flex flex-wrap gap-2" role="group" aria-label={`Place of ${title}`}>
      {!isOut && (
        <>
          <Button small onClick={() => move(-1)} disabled={at <= 0}>
            Earlier
          </Button>
          <Button small onClick={() => move(1)} disabled={at < 0 || at >= order.length - 1}>
            Later
          </Button>
        </>
      )}
      <Button small onClick={takeOrLeave} tone={isOut || (role !== 'boot' && role !== 'system') ? 'plain' : 'erases'}>
        {isOut ? 'Take it along' : 'Leave it out'}
      </Button>
    </div>
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
  const { before, after } = fitSizes(partition, layout)
  const kept = original.number === partition.number && original.guid === partition.guid
  const grid = (partition.firstLba * layout.sectorSize) % (1024 * 1024) === 0
  const start = (partition.firstLba * layout.sectorSize) % 4096 === 0
  return (
    <>
      <Facts
        facts={[
          { name: 'Size after', value: formatSize(after), mono: true },
          { name: 'Size now', value: formatSize(before), mono: true },
          { name: 'Least it can be', value: formatSize(partition.leastBytes), mono: true },
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
          {
            name: 'Alignment',
            value: grid ? '1 MiB, good' : start ? '4 KiB, good' : 'off 4 KiB',
            tone: start ? 'good' : 'caution',
          },
          {
            name: layout.scheme === 'gpt' ? 'Number and GUID' : 'Number',
            value: kept ? 'kept' : 'changed',
            tone: kept ? undefined : 'caution',
          },
        ]}
      />
      {partition.role === 'system' && kept && layout.changes.every((c) => c.what !== 'disk identity') && (
        <div className="mt-4">
          <Callout>
            {layout.scheme === 'gpt'
              ? 'Boot settings point at this volume by its GUID. It is kept, so they still hold.'
              : 'Boot settings point at this volume by the drive’s signature and its first sector. Proof looks whether they still hold.'}
          </Callout>
        </div>
      )}
    </>
  )
}

interface LabelFieldProps {
  readonly kind: string
  readonly label: string
  readonly locked: boolean
  readonly onLabel: (label: string) => void
}

/** What the volume is called on the target, so that old and new are told apart. */
export function LabelField({ kind, label, locked, onLabel }: LabelFieldProps) {
  const wrong = labelProblem(kind, label.trim())
  return (
    <label className="mb-4 block">
      <span className="mb-1 block text-ink-soft">Label on the target</span>
      <input
        value={label}
        data-testid="label"
        disabled={locked}
        aria-invalid={wrong !== undefined}
        onChange={(event) => onLabel(event.target.value)}
        className="w-full rounded-md border border-line-strong bg-paper px-3 py-1.5 aria-invalid:border-vermilion disabled:opacity-60"
      />
      {wrong && <span className="text-[13px] text-vermilion">{wrong}</span>}
    </label>
  )
}

interface SizeFieldProps {
  readonly now: number
  readonly bytes: number
  readonly range?: SizeRange
  readonly onSize: (bytes: number) => void
}

/** A size as people type it. What is not a size is said, and the last good one stays. */
function SizeField({ now, bytes, range, onSize }: SizeFieldProps) {
  const [typed, setTyped] = useState<{ text: string; gave: number }>()
  // What was typed stands as long as nothing else, such as a drag, has changed the size since.
  const mine = typed !== undefined && typed.gave === bytes
  const text = mine ? typed.text : formatSize(bytes)
  const parsed = parseSize(text, now)
  const wrong =
    parsed === undefined
      ? 'That is not a size.'
      : range && mine && parsed > range.most + 1024 * 1024
        ? `At most ${formatSize(range.most)} is left for it.`
        : range && mine && parsed < range.least
          ? `It cannot be less than ${formatSize(range.least)}.`
          : undefined
  return (
    <label className="mb-4 block">
      <span className="mb-1 block text-ink-soft">Size, such as 350 GiB, 0.5 TB or +20 %</span>
      <input
        value={text}
        data-testid="size"
        aria-invalid={wrong !== undefined}
        onChange={(event) => {
          const next = parseSize(event.target.value, now)
          setTyped({ text: event.target.value, gave: next ?? bytes })
          if (next !== undefined) onSize(next)
        }}
        onBlur={() => wrong === undefined && setTyped(undefined)}
        className="w-full rounded-md border border-line-strong bg-paper px-3 py-1.5 text-right font-mono aria-invalid:border-vermilion"
      />
      {wrong && <span className="text-[13px] text-vermilion">{wrong}</span>}
    </label>
  )
}
