'use client'

import { Bar, BarChart, LabelList, ResponsiveContainer, XAxis, YAxis } from 'recharts'
import { groupDigits } from '@/core/bytes/size'

interface SpeedBarsProps {
  readonly before: number
  readonly now: number
  readonly unit: string
}

const axis = { fontSize: 12, fontFamily: 'var(--font-mono)', fill: 'var(--ink-soft)' }

/** Two speeds as bars, one below the other. */
export function SpeedBars({ before, now, unit }: SpeedBarsProps) {
  const data = [
    { name: 'before', value: before, fill: 'var(--sea-2)' },
    { name: 'now', value: now, fill: 'var(--sea-4)' },
  ]
  return (
    <ResponsiveContainer width="100%" height="100%">
      <BarChart data={data} layout="vertical" margin={{ top: 4, right: 112, bottom: 0, left: 0 }}>
        <XAxis type="number" hide domain={[0, Math.max(before, now, 1)]} />
        <YAxis type="category" dataKey="name" width={52} tick={axis} stroke="var(--line-strong)" tickLine={false} />
        <Bar dataKey="value" barSize={20} isAnimationActive={false}>
          <LabelList
            dataKey="value"
            position="right"
            // In one piece: the chart would break it at a plain space.
            formatter={(value) => `${groupDigits(Number(value))}\u00a0${unit}`}
            style={{ fontSize: 12, fontFamily: 'var(--font-mono)', fill: 'var(--ink)' }}
          />
        </Bar>
      </BarChart>
    </ResponsiveContainer>
  )
}
