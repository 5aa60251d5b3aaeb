'use client'

import { formatSize, MIB } from '@/core/bytes/size'
import { fitSizes, type FitPartition, type Layout } from '@/core/fit/types'
import type { PartitionSurvey } from '@/core/survey/types'
import { type Column, SelectableTable } from '@/ui/shared/selectable-table'

const NAMES = ['No.', 'Now', 'After', 'Change', 'Starts at', 'Rule']

interface FitTableProps {
  readonly layout: Layout
  /** Partitions of the source that do not come along. */
  readonly leftOut: readonly PartitionSurvey[]
  /** A fit that was locked before, to compare with. */
  readonly earlier?: { readonly at: string; readonly layout: Layout }
  readonly selected: string
  readonly onSelect: (key: string) => void
}

/** The partitions of a fit in figures, now and after. */
export function FitTable({ layout, leftOut, earlier, selected, onSelect }: FitTableProps) {
  const columns = [...NAMES, ...(earlier ? [`At ${earlier.at}`] : [])].map((name): Column => ({ name, kind: 'number' }))
  const rows = layout.partitions.map((p) => {
    const { before, after } = fitSizes(p, layout)
    const number = p.number === p.sourceNumber ? String(p.number) : `${p.sourceNumber} → ${p.number}`
    return {
      key: String(p.sourceNumber),
      title: p.title,
      cells: [
        number,
        formatSize(before),
        formatSize(after),
        changeWords(after - before),
        formatSize(Math.floor((p.firstLba * layout.sectorSize) / MIB) * MIB),
        p.rule,
        ...(earlier ? [earlierCell(p, earlier.layout, after)] : []),
      ],
    }
  })
  const gone = leftOut.map((p) => ({
    key: String(p.number),
    title: p.title,
    cells: [p.number, formatSize(p.sizeBytes), 'left out', '', '', '', ...(earlier ? [''] : [])],
  }))
  return (
    <SelectableTable
      label="Partitions of this fit"
      title="Volume"
      columns={columns}
      rows={[...rows, ...gone]}
      selected={selected}
      onSelect={onSelect}
      testId="fit-table"
      wide
    />
  )
}

function changeWords(change: number): string {
  if (change === 0) return '0'
  return change > 0 ? `+${formatSize(change)}` : formatSize(change)
}

function earlierCell(p: FitPartition, layout: Layout, now: number) {
  const then = layout.partitions.find((e) => e.sourceNumber === p.sourceNumber)
  if (!then) return 'left out'
  const { after } = fitSizes(then, layout)
  return after === now ? <span className="text-ink-soft">the same</span> : formatSize(after)
}
