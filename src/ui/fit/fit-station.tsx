'use client'

import { useMemo, useState } from 'react'
import { clsx } from 'clsx'
import { formatSize, groupDigits, MIB } from '@/core/bytes/size'
import { defaultRules, fitSizes, solveFit } from '@/core/fit/solve'
import type { FitPartition, Layout, Rules, SizeRule } from '@/core/fit/types'
import { formatRange } from '@/core/route/route'
import type { Route } from '@/core/route/types'
import type { DriveSurvey } from '@/core/survey/types'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { Facts } from '@/ui/shared/facts'
import type { PlateDrive } from '@/ui/shared/plate'
import { FitChart } from './fit-chart'

interface FitView {
  readonly source: PlateDrive & { readonly model: string }
  readonly target: PlateDrive & { readonly model: string }
  readonly sourceSurvey: DriveSurvey
  readonly targetSurvey: DriveSurvey
  readonly locked: { readonly rules: Rules; readonly at: string } | null
  readonly copied: boolean
  readonly leg: Route['leg']
}

/** Where everything goes on the target. Solved in the browser at each change, and once more by the server when locked. */
export function FitStation({ moveId, view }: { moveId: string; view: FitView }) {
  const { act, busy } = useAct()
  const { lockFit, unlockFit } = useActions()
  const { sourceSurvey, targetSurvey, locked } = view
  const [changed, setRules] = useState<Rules>(() => defaultRules(sourceSurvey))
  const rules = locked?.rules ?? changed
  const result = useMemo(() => solveFit(sourceSurvey, targetSurvey, rules), [sourceSurvey, targetSurvey, rules])
  const first = sourceSurvey.partitions.find((p) => rules[p.number] === 'fill') ?? sourceSurvey.partitions[0]
  const [selected, setSelected] = useState(String(first?.number ?? ''))
  const ready = `/moves/${moveId}/ready`
  if (!result.fits) {
    const [obstacle] = result.obstacles
    return (
      <Stage
        heading={obstacle.missingBytes ? `It misses by ${formatSize(obstacle.missingBytes)}` : 'It cannot be laid out'}
        reason={obstacle.sentence}
      >
        <Callout tone="bad">{obstacle.mend}</Callout>
      </Stage>
    )
  }
  const { layout, headline, reason } = result
  const partition = layout.partitions.find((p) => String(p.number) === selected)
  return (
    <Stage
      heading={headline}
      reason={reason}
      tools={
        locked && !view.copied ? (
          <Button onClick={() => void act(() => unlockFit(moveId))} disabled={busy}>
            Change it
          </Button>
        ) : undefined
      }
      aside={
        <>
          {partition && (
            <SelectedVolume
              partition={partition}
              layout={layout}
              survey={sourceSurvey}
              locked={locked !== null}
              onRule={(rule) => setRules({ ...rules, [partition.number]: rule })}
            />
          )}
          <AsideBlock title="This copy">
            <Facts
              facts={[
                { name: 'To copy', value: formatSize(view.leg.bytes), mono: true },
                { name: 'Limited by', value: view.leg.timing.limitedBy },
                { name: 'Time', value: formatRange(view.leg.lowSeconds, view.leg.highSeconds), mono: true },
              ]}
            />
          </AsideBlock>
        </>
      }
      next={
        locked ? (
          <NextAction
            label="Go on to Ready"
            onAct={() => void act(async () => ({ ok: true }), ready)}
            disabled={busy}
            hint={`Locked ${locked.at}. This is what will be written.`}
          />
        ) : (
          <NextAction
            label="Lock this fit"
            onAct={() => void act(() => lockFit(moveId, rules), ready)}
            disabled={busy}
          />
        )
      }
    >
      <FitChart
        layout={layout}
        source={view.source}
        target={view.target}
        selected={selected}
        onSelect={setSelected}
        holds={holdsOf(targetSurvey)}
      />
      <FitTable layout={layout} selected={selected} onSelect={setSelected} />
    </Stage>
  )
}

function holdsOf(target: DriveSurvey): string {
  if (target.scheme === 'unfinished') return 'an unfinished copy is erased'
  if (target.partitions.length === 0) return 'empty now'
  return `${target.partitions.map((p) => p.title).join(', ')} is erased`
}

interface SelectedVolumeProps {
  readonly partition: FitPartition
  readonly layout: Layout
  readonly survey: DriveSurvey
  readonly locked: boolean
  readonly onRule: (rule: SizeRule) => void
}

function SelectedVolume({ partition, layout, survey, locked, onRule }: SelectedVolumeProps) {
  const { before, after } = fitSizes(partition, layout.sectorSize)
  const original = survey.partitions.find((p) => p.firstLba === partition.sourceFirstLba)
  const volume = original?.volume
  const kept = original?.number === partition.number && original.guid === partition.guid
  const aligned = (partition.firstLba * layout.sectorSize) % MIB === 0
  return (
    <AsideBlock title="Selected volume">
      <p className="mb-3 text-[19px] font-bold">
        {partition.title}{' '}
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
        className="mb-4 grid grid-cols-2 overflow-hidden rounded-md border border-line-strong"
      >
        {(['keep', 'fill'] as const).map((rule) => {
          const on = partition.rule === rule
          const cannot = rule === 'fill' && !volume?.canGrow
          return (
            <button
              key={rule}
              type="button"
              role="radio"
              aria-checked={on}
              disabled={locked || cannot}
              onClick={() => onRule(rule)}
              className={clsx(
                'py-1.5 font-semibold capitalize',
                on ? 'bg-ink text-paper' : 'text-ink-soft',
                cannot && 'line-through opacity-70',
              )}
            >
              {rule}
            </button>
          )
        })}
      </div>
      <Facts
        facts={[
          { name: 'Size after', value: formatSize(after), mono: true },
          { name: 'Size now', value: formatSize(before), mono: true },
          { name: 'Smallest it can be', value: formatSize(partition.smallestBytes), mono: true },
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
            value: aligned ? '1 MiB, good' : 'off 1 MiB',
            tone: aligned ? 'good' : 'caution',
          },
          { name: 'Number and GUID', value: kept ? 'kept' : 'changed', tone: kept ? undefined : 'caution' },
        ]}
      />
      {partition.role === 'system' && kept && (
        <div className="mt-4">
          <Callout>Boot settings point at this volume by its GUID. It is kept, so they still hold.</Callout>
        </div>
      )}
    </AsideBlock>
  )
}

function FitTable({
  layout,
  selected,
  onSelect,
}: {
  layout: Layout
  selected: string
  onSelect: (key: string) => void
}) {
  return (
    <div className="mt-4 overflow-x-auto" tabIndex={0} role="region" aria-label="Partitions of this fit">
      <table className="w-full text-[13.5px]" data-testid="fit-table">
        <thead className="border-b border-line-strong text-ink-soft">
          <tr>
            {['Volume', 'No.', 'Now', 'After', 'Change', 'Starts at', 'Rule'].map((name, i) => (
              <th
                key={name}
                scope="col"
                className={clsx('px-2 py-1.5 font-semibold', i === 0 ? 'text-left' : 'text-right')}
              >
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {layout.partitions.map((p) => {
            const { before, after } = fitSizes(p, layout.sectorSize)
            return (
              <tr
                key={p.number}
                onClick={() => onSelect(String(p.number))}
                className={clsx(
                  'cursor-pointer border-b border-line',
                  String(p.number) === selected && 'bg-magenta-wash',
                )}
              >
                <th scope="row" className="px-2 py-1.5 text-left font-semibold">
                  <button type="button" className="text-left" onClick={() => onSelect(String(p.number))}>
                    {p.title}
                  </button>
                </th>
                {[
                  String(p.number),
                  formatSize(before),
                  formatSize(after),
                  after === before ? '0' : `+${formatSize(after - before)}`,
                  formatSize(Math.floor((p.firstLba * layout.sectorSize) / MIB) * MIB),
                  p.rule,
                ].map((text, i) => (
                  <td key={i} className="px-2 py-1.5 text-right font-mono">
                    {text}
                  </td>
                ))}
              </tr>
            )
          })}
        </tbody>
      </table>
    </div>
  )
}
