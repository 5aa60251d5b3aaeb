import type { Role } from '@/core/survey/types'
import { formatSize } from '@/core/bytes/size'
import { type PlacedPart, waterHeight } from './hull-geometry'

/**
 * Fills by role; a texture says what a part is for, whatever its file system. Stands once on a page, since
 * drawings refer to it by name.
 */
export function HullPatterns() {
  return (
    <svg width="0" height="0" className="absolute" aria-hidden>
      <defs>
        <pattern id="boot" width="11" height="11" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="11" height="11" fill="var(--magenta-wash)" />
          <rect width="4.5" height="11" fill="var(--magenta)" />
        </pattern>
        <pattern id="reserved" width="7" height="7" patternUnits="userSpaceOnUse">
          <rect width="7" height="7" fill="var(--sheet-sunk)" />
          <circle cx="3.5" cy="3.5" r="1.1" fill="var(--ink-soft)" />
        </pattern>
        <pattern id="recovery" width="10" height="7" patternUnits="userSpaceOnUse">
          <rect width="10" height="7" fill="var(--ochre-wash)" />
          <rect width="10" height="2" y="2.5" fill="var(--ochre)" />
        </pattern>
        <pattern id="unallocated" width="9" height="9" patternUnits="userSpaceOnUse" patternTransform="rotate(-45)">
          <rect width="9" height="9" fill="var(--paper)" />
          <rect width="1" height="9" fill="var(--line-strong)" />
        </pattern>
      </defs>
    </svg>
  )
}

type PartRole = Role | 'unallocated'

const FILLS: Record<PartRole, string> = {
  boot: 'url(#boot)',
  reserved: 'url(#reserved)',
  recovery: 'url(#recovery)',
  unallocated: 'url(#unallocated)',
  system: 'var(--sea-1)',
  data: 'var(--slate-wash)',
  swap: 'url(#reserved)',
  extended: 'var(--sheet-sunk)',
  unknown: 'var(--sheet-sunk)',
}

const WATER: Partial<Record<PartRole, string>> = { system: 'var(--sea-3)', data: 'var(--slate)' }

/** The colour of the band that leads from a part to where it goes. */
export const BANDS: Record<PartRole, string> = {
  boot: 'var(--magenta-wash)',
  reserved: 'var(--sheet-sunk)',
  recovery: 'var(--ochre-wash)',
  system: 'var(--sea-2)',
  data: 'var(--slate-wash)',
  swap: 'var(--sheet-sunk)',
  extended: 'var(--sheet-sunk)',
  unknown: 'var(--sheet-sunk)',
  unallocated: 'none',
}

interface HullProps {
  readonly parts: readonly PlacedPart[]
  readonly x: number
  readonly y: number
  readonly width: number
  readonly selected?: string
  readonly onSelect?: (key: string) => void
}

/** A drive upright, its parts stacked first sector to last, filled like water as far as they are used. */
export function Hull({ parts, x, y, width, selected, onSelect }: HullProps) {
  return (
    <g>
      {parts.map((part) => {
        const water = WATER[part.role]
        const depth = water ? waterHeight(part) : 0
        const top = y + part.top
        const bottom = top + part.height
        return (
          <g
            key={part.key}
            onClick={onSelect && part.role !== 'unallocated' ? () => onSelect(part.key) : undefined}
            className={onSelect && part.role !== 'unallocated' ? 'cursor-pointer' : undefined}
          >
            <rect x={x} y={top} width={width} height={part.height} fill={FILLS[part.role]} />
            {depth > 0 && <rect x={x} y={bottom - depth} width={width} height={depth} fill={water} />}
            {depth > 0 && depth < part.height && (
              <line
                x1={x}
                x2={x + width}
                y1={bottom - depth}
                y2={bottom - depth}
                stroke="var(--sea-4)"
                strokeWidth="2.5"
              />
            )}
            <rect x={x} y={top} width={width} height={part.height} fill="none" stroke="var(--ink)" strokeWidth="1.2" />
            {water && part.usedBytes !== undefined && depth > 26 && (
              <text
                x={x + width / 2}
                y={bottom - depth + 19}
                textAnchor="middle"
                fontSize="12.5"
                fontWeight="700"
                fill="var(--hull-text)"
              >
                {formatSize(part.usedBytes)} used
              </text>
            )}
            {water && part.usedBytes !== undefined && part.height - depth > 34 && (
              <text x={x + width / 2} y={top + 29} textAnchor="middle" fontSize="12.5" fill="var(--ink)">
                {formatSize(part.sizeBytes - part.usedBytes)} clear
              </text>
            )}
            {selected === part.key && (
              <rect
                x={x - 3}
                y={top - 1}
                width={width + 6}
                height={part.height + 2}
                fill="none"
                stroke="var(--magenta)"
                strokeWidth="3"
              />
            )}
          </g>
        )
      })}
    </g>
  )
}
