'use client'

import { CartesianGrid, Line, LineChart, ReferenceLine, ResponsiveContainer, XAxis, YAxis } from 'recharts'
import type { CopyProgress } from '@/core/copy/progress'
import type { LegTiming } from '@/core/route/types'

interface SpeedChartProps {
  readonly samples: CopyProgress['samples']
  readonly events: CopyProgress['events']
  readonly timing: Pick<LegTiming, 'copyBytesPerSecond' | 'checkBytesPerSecond'>
}

const TROUBLE = ['cut', 'trouble', 'rewritten', 'let-go', 'away']

/** Speed over bench time, with what the slowest part allows, for copying and for reading back, as dashed lines. */
export function SpeedChart({ samples, events, timing }: SpeedChartProps) {
  const data = samples.map((s) => ({
    minute: s.second / 60,
    copy: s.phase === 'copy' ? Math.round(s.bytesPerSecond / 1e6) : null,
    check: s.phase === 'check' ? Math.round(s.bytesPerSecond / 1e6) : null,
  }))
  const readBack = events.find((e) => e.kind === 'read-back')
  const { copyBytesPerSecond: limit, checkBytesPerSecond: checkLimit } = timing
  const most = Math.max(limit, readBack ? checkLimit : 0, ...samples.map((s) => s.bytesPerSecond))
  const top = Math.ceil((most * 1.15) / 1e8) * 100
  // Words of events stand where the line does not.
  const low = limit / 1e6 < top * 0.4
  const last = Math.max(data.at(-1)?.minute ?? 0, (events.at(-1)?.second ?? 0) / 60)
  const turn = readBack ? readBack.second / 60 : Math.max(last, 0.5)
  const limits = [
    { from: 0, to: turn, y: limit / 1e6 },
    ...(readBack ? [{ from: turn, to: Math.max(last, turn), y: checkLimit / 1e6 }] : []),
  ]
  const axis = { fontSize: 11.5, fontFamily: 'var(--font-mono)', fill: 'var(--ink-soft)' }
  return (
    <div role="img" aria-label="Speed over time" className="h-[140px]">
      <ResponsiveContainer width="100%" height="100%">
        <LineChart data={data} margin={{ top: 4, right: 26, bottom: 0, left: 2 }}>
          <CartesianGrid stroke="var(--line)" vertical={false} />
          <XAxis
            dataKey="minute"
            type="number"
            domain={[0, Math.max(last, 0.5)]}
            tick={axis}
            ticks={ticksUpTo(last)}
            tickFormatter={(value: number) => tickWords(value, last)}
            stroke="var(--line-strong)"
          />
          <YAxis domain={[0, top]} tick={axis} width={34} stroke="var(--line-strong)" tickCount={3} />
          {limits.map(({ from, to, y }) => (
            <ReferenceLine
              key={from}
              segment={[
                { x: from, y },
                { x: to, y },
              ]}
              stroke="var(--line-strong)"
              strokeDasharray="6 5"
            />
          ))}
          {events.map((event, i) => (
            <ReferenceLine
              key={`${event.second} ${i}`}
              x={event.second / 60}
              stroke={TROUBLE.includes(event.kind) ? 'var(--vermilion)' : 'var(--ink-soft)'}
              strokeDasharray="2 3"
              label={{
                value: event.text,
                position: `inside${low ? 'Top' : 'Bottom'}${event.second / 60 > last * 0.7 ? 'Right' : 'Left'}`,
                dy: (low ? 13 : -13) * (i % 4),
                fontSize: 11.5,
                fill: TROUBLE.includes(event.kind) ? 'var(--vermilion)' : 'var(--ink-soft)',
              }}
            />
          ))}
          <Line dataKey="copy" stroke="var(--sea-4)" strokeWidth={2} dot={false} isAnimationActive={false} />
          <Line
            dataKey="check"
            stroke="var(--sea-3)"
            strokeWidth={2}
            strokeDasharray="5 3"
            dot={false}
            isAnimationActive={false}
          />
        </LineChart>
      </ResponsiveContainer>
    </div>
  )
}

/** A time on the axis; with its seconds where steps are less than a minute. */
function tickWords(minutes: number, last: number): string {
  if (last < 2) return `${Math.round(minutes * 60)} s`
  if (last > 7) return `${Math.round(minutes)} min`
  return `${Math.floor(minutes)}:${String(Math.round((minutes % 1) * 60)).padStart(2, '0')} min`
}

/** Round times, in minutes, that give about six ticks. */
function ticksUpTo(minutes: number): number[] {
  const step = [1 / 12, 1 / 6, 0.25, 0.5, 1, 2, 5, 10, 20, 60, 120].find((s) => minutes / s <= 7) ?? 240
  return Array.from({ length: Math.floor(minutes / step) + 1 }, (_, i) => i * step)
}
