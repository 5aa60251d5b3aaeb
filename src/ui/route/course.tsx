import type { Route } from '@/core/route/types'

const WIDTH = 700
const INSET = 90

/** A route as a course with stops: thick where bytes move, dotted where hands do, thin where a computer starts. */
export function Course({ stops }: { stops: Route['stops'] }) {
  const step = (WIDTH - 2 * INSET) / (stops.length - 1)
  const at = (i: number) => INSET + i * step
  return (
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="The course of this route">
      <svg
        viewBox={`0 0 ${WIDTH} 92`}
        className="w-full min-w-[560px]"
        role="img"
        aria-label={stops.map((s) => `${s.title}, ${s.sub}`).join('; then ')}
      >
        {stops.slice(0, -1).map((stop, i) => (
          <g key={i}>
            <line
              x1={at(i) + 11}
              x2={at(i + 1) - 11}
              y1="34"
              y2="34"
              stroke={stop.toNext === 'bytes' ? 'var(--sea-4)' : 'var(--line-strong)'}
              strokeWidth={stop.toNext === 'bytes' ? 6 : 2.5}
              strokeDasharray={stop.toNext === 'hands' ? '2 6' : undefined}
            />
            {stop.label && (
              <text
                x={(at(i) + at(i + 1)) / 2}
                y="18"
                textAnchor="middle"
                fontSize="12.5"
                fontFamily="var(--font-mono)"
                fill={stop.toNext === 'bytes' ? 'var(--sea-4)' : 'var(--ink-soft)'}
              >
                {stop.label}
              </text>
            )}
          </g>
        ))}
        {stops.map((stop, i) => (
          <g key={i}>
            <circle
              cx={at(i)}
              cy="34"
              r="8.5"
              fill={i === stops.length - 1 ? 'var(--magenta)' : 'var(--sheet)'}
              stroke={i === stops.length - 1 ? 'var(--magenta)' : 'var(--ink)'}
              strokeWidth="2"
            />
            <text x={at(i)} y="64" textAnchor="middle" fontSize="13" fontWeight="700" fill="var(--ink)">
              {stop.title}
            </text>
            <text x={at(i)} y="82" textAnchor="middle" fontSize="12.5" fill="var(--ink-soft)">
              {stop.sub}
            </text>
          </g>
        ))}
      </svg>
    </div>
  )
}
