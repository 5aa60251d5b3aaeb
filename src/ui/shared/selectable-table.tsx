'use client'

import type { ReactNode } from 'react'
import { clsx } from 'clsx'

export interface Column {
  readonly name: string
  /** Words stand at the left, numbers at the right in monospace. */
  readonly kind: 'words' | 'number'
}

export interface Row {
  readonly key: string
  /** What the row is about, and the button that selects it. */
  readonly title: string
  readonly cells: readonly ReactNode[]
}

interface SelectableTableProps {
  readonly label: string
  readonly title: string
  readonly columns: readonly Column[]
  readonly rows: readonly Row[]
  readonly selected: string
  readonly onSelect: (key: string) => void
  readonly testId?: string
  /** On a narrow screen it scrolls sideways rather than breaking every word. */
  readonly wide?: boolean
}

/** A table of which one row is selected, by mouse or by keyboard. */
export function SelectableTable({
  label,
  title,
  columns,
  rows,
  selected,
  onSelect,
  testId,
  wide,
}: SelectableTableProps) {
  return (
    <div className="mt-4 overflow-x-auto" tabIndex={0} role="region" aria-label={label}>
      <table
        className="w-full text-[13.5px]"
        style={wide ? { minWidth: 140 + columns.length * 88 } : undefined}
        data-testid={testId}
      >
        <thead className="border-b border-line-strong text-ink-soft">
          <tr>
            <th scope="col" className="px-2 py-1.5 text-left font-semibold">
              {title}
            </th>
            {columns.map(({ name, kind }) => (
              <th
                key={name}
                scope="col"
                className={clsx('px-2 py-1.5 font-semibold', kind === 'number' ? 'text-right' : 'text-left')}
              >
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr
              key={row.key}
              onClick={() => onSelect(row.key)}
              className={clsx('cursor-pointer border-b border-line', row.key === selected && 'bg-magenta-wash')}
            >
              <th scope="row" className="px-2 py-1.5 text-left font-semibold">
                <button
                  type="button"
                  className="text-left"
                  aria-pressed={row.key === selected}
                  onClick={() => onSelect(row.key)}
                >
                  {row.title}
                </button>
              </th>
              {row.cells.map((cell, i) => (
                <td
                  key={columns[i].name}
                  className={clsx(
                    'px-2 py-1.5',
                    columns[i].kind === 'number' && 'text-right font-mono whitespace-nowrap',
                  )}
                >
                  {cell}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
