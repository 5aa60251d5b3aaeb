'use client'

import { CartesianGrid, Line, LineChart, ReferenceLine, ResponsiveContainer, XAxis, YAxis } from 'recharts'
import type { CopyProgress } from './types'

/** Speed over bench time, with what the slowest part allows as a dashed line. */
export function SpeedChart({ samples, limit }: { samples: CopyProgress['samples']; limit: number }) {
  const data = samples.map((s) => ({
    minute: s.second / 60,
    copy: s.phase === 'copy' ? Math.round(s.bytesPerSecond / 1e6) : null,
    check: s.phase === 'check' ? Math.round(s.bytesPerSecond / 1e6) : null,
  }))
  const top = Math.ceil((Math.max(limit, ...samples.map((s) => s.bytesPerSecond)) * 1.15) / 1e8) * 100
  const last = data.at(-1)?.minute ?? 0
  const axis = { fontSize: 11.5, fontFamily: 'var(--font-mono)', fill: 'var(--ink-soft)' }
  return (
    <div role="img" aria-label="Speed over time" className="h-[140px]">
      <ResponsiveContainer width="100%" height="100%">
        <LineChart data={data} margin={{ top: 4, right: 8, bottom: 0, left: 0 }}>
          <CartesianGrid stroke="var(--line)" vertical={false} />
          <XAxis
            dataKey="minute"
            type="number"
            domain={[0, Math.max(last, 0.5)]}
            tick={axis}
            tickFormatter={(value: number) => (last < 2 ? `${Math.round(value * 60)} s` : `${Math.round(value)} min`)}
            stroke="var(--line-strong)"
          />
          <YAxis domain={[0, top]} tick={axis} width={52} stroke="var(--line-strong)" tickCount={3} unit=" MB/s" hide />
          <ReferenceLine y={limit / 1e6} stroke="var(--line-strong)" strokeDasharray="6 5" />
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
