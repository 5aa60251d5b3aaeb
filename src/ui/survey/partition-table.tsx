'use client'

import { formatSize, groupDigits } from '@/core/bytes/size'
import type { DriveSurvey, PartitionSurvey } from '@/core/survey/types'
import { type Column, SelectableTable } from '@/ui/shared/selectable-table'

const COLUMNS: readonly Column[] = [
  { name: 'No.', kind: 'number' },
  { name: 'Role', kind: 'words' },
  { name: 'File system', kind: 'words' },
  { name: 'First sector', kind: 'number' },
  { name: 'Size', kind: 'number' },
  { name: 'Used', kind: 'number' },
  { name: 'Letter', kind: 'words' },
]

interface PartitionTableProps {
  readonly survey: DriveSurvey
  readonly selected: string
  readonly onSelect: (key: string) => void
  readonly label?: string
}

/** Partitions and the room between them, first sector to last. */
export function PartitionTable({ survey, selected, onSelect, label = 'Partitions' }: PartitionTableProps) {
  const partitions = survey.partitions.map((p) => ({
    firstLba: p.firstLba,
    row: { key: String(p.number), title: p.title, cells: cellsOf(p) },
  }))
  const gaps = survey.gaps.map(({ firstLba, sizeBytes }) => ({
    firstLba,
    row: {
      key: `gap-${firstLba}`,
      title: 'Unallocated',
      cells: ['', '', '', groupDigits(firstLba), formatSize(sizeBytes), '', ''],
    },
  }))
  const rows = [...partitions, ...gaps].sort((a, b) => a.firstLba - b.firstLba).map(({ row }) => row)
  return (
    <SelectableTable
      label={label}
      title="Partition"
      columns={COLUMNS}
      rows={rows}
      selected={selected}
      onSelect={onSelect}
      testId="partitions"
      wide
    />
  )
}

function cellsOf({ number, role, mbr, volume, sizeBytes, firstLba, hasLetter }: PartitionSurvey) {
  const kind = mbr && mbr.kind !== 'extended' ? (mbr.active ? 'active' : mbr.kind === 'logical' ? 'logical' : '') : ''
  return [
    number,
    [role, kind].filter(Boolean).join(', '),
    role === 'extended' ? '' : volume ? `${volume.name}, ${stateWords(volume.state)}` : 'none known',
    groupDigits(firstLba),
    formatSize(sizeBytes),
    volume ? formatSize(volume.usedBytes) : '',
    role === 'extended' ? '' : letterWords(volume, hasLetter),
  ]
}

/** Kinds of volumes that systems with drive letters give one to. */
const LETTERED = /^(ntfs|refs|fat|exfat|bitlocker)/

/** Whether it has a drive letter; a dash where its kind of volume knows of none. */
export function letterWords(volume: PartitionSurvey['volume'], hasLetter: boolean): string {
  if (volume && !LETTERED.test(volume.kind)) return '—'
  return hasLetter ? 'yes' : 'none'
}

/** A volume's state as people say it. */
export function stateWords(state: NonNullable<PartitionSurvey['volume']>['state']): string {
  return { clean: 'clean', dirty: 'not closed', damaged: 'damaged', unknown: 'closed to us' }[state]
}
