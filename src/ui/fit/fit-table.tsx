'use client'

import { formatSize, MIB } from '@/core/bytes/size'
import { fitSizes } from '@/core/fit/solve'
import type { Layout } from '@/core/fit/types'
import { type Column, SelectableTable } from '@/ui/shared/selectable-table'

const COLUMNS: readonly Column[] = ['No.', 'Now', 'After', 'Change', 'Starts at', 'Rule'].map((name) => ({
  name,
  kind: 'number',
}))

interface FitTableProps {
  readonly layout: Layout
  readonly selected: string
  readonly onSelect: (key: string) => void
}

/** The partitions of a fit in figures, now and after. */
export function FitTable({ layout, selected, onSelect }: FitTableProps) {
  const { sectorSize } = layout
  const rows = layout.partitions.map((p) => {
    const { before, after } = fitSizes(p, sectorSize)
    return {
      key: String(p.number),
      title: p.title,
      cells: [
        p.number,
        formatSize(before),
        formatSize(after),
        after === before ? '0' : `+${formatSize(after - before)}`,
        formatSize(Math.floor((p.firstLba * sectorSize) / MIB) * MIB),
        p.rule,
      ],
    }
  })
  return (
    <SelectableTable
      label="Partitions of this fit"
      title="Volume"
      columns={COLUMNS}
      rows={rows}
      selected={selected}
      onSelect={onSelect}
      testId="fit-table"
    />
  )
}
