import { formatSize } from '@/core/bytes/size'
import type { PlacedPart } from './hull-geometry'

interface LabelsProps {
  readonly parts: readonly PlacedPart[]
  readonly x: number
  readonly y: number
  readonly height: number
  readonly side: 'left' | 'right'
  /** Room for the names, in the drawing's units; a longer one is cut and told in full to a pointer that waits. */
  readonly room?: number
}

const LINE = 19

/** Names beside a hull; where parts are slivers, the names stand apart and leader lines point at them. */
export function HullLabels({ parts, x, y, height, side, room = Infinity }: LabelsProps) {
  const rows = spread(
    parts.map((part) => part.top + part.height / 2),
    parts.map((part) => (part.height > 60 ? LINE * 2 : LINE)),
    height,
  )
  const sign = side === 'left' ? -1 : 1
  return (
    <g>
      {parts.map((part, i) => {
        const middle = y + part.top + part.height / 2
        const row = y + rows[i]
        const away = Math.abs(row - middle) > 2
        const tall = part.height > 60
        const at = x + sign * (away ? 30 : 10)
        const anchor = side === 'left' ? 'end' : 'start'
        return (
          <g key={part.key}>
            {away && (
              <polyline
                points={`${x + sign * 2},${middle} ${x + sign * 16},${row} ${x + sign * 26},${row}`}
                fill="none"
                stroke="var(--line-strong)"
              />
            )}
            <text
              x={at}
              y={row + (tall ? -2 : 4.5)}
              textAnchor={anchor}
              fontSize="13"
              fontWeight="650"
              fill="var(--ink)"
            >
              {cut(part.title, room - Math.abs(at - x))}
              <title>{part.title}</title>
            </text>
            {tall && (
              <text
                x={at}
                y={row + 16}
                textAnchor={anchor}
                fontSize="12.5"
                fill="var(--ink-soft)"
                fontFamily="var(--font-mono)"
              >
                {formatSize(part.sizeBytes)}
              </text>
            )}
          </g>
        )
      })}
    </g>
  )
}

/** Units that a letter of a name takes on the average. */
const LETTER = 7.2

function cut(text: string, room: number): string {
  const most = Math.max(4, Math.floor(room / LETTER))
  return text.length <= most ? text : `${text.slice(0, most - 1).trimEnd()}…`
}

/** Moves rows apart, downwards first and then up from the end, so that none covers another. */
function spread(wanted: readonly number[], heights: readonly number[], total: number): number[] {
  const rows = [...wanted]
  for (let i = 1; i < rows.length; i++) rows[i] = Math.max(rows[i], rows[i - 1] + (heights[i - 1] + heights[i]) / 2)
  for (let i = rows.length - 1; i >= 0; i--) {
    const limit =
      i === rows.length - 1 ? total - heights[i] / 2 + LINE / 2 : rows[i + 1] - (heights[i] + heights[i + 1]) / 2
    rows[i] = Math.min(rows[i], limit)
  }
  return rows
}
