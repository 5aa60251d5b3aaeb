'use client'

import { clsx } from 'clsx'
import { formatSize, MIB } from '@/core/bytes/size'
import { fitSizes } from '@/core/fit/solve'
import type { Layout } from '@/core/fit/types'

/** The partitions of a fit in figures, now and after. */
export function FitTable({
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
                  <td key={i} className="px-2 py-1.5 text-right font-mono whitespace-nowrap">
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
