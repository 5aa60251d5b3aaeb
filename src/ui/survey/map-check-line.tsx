'use client'

import { useState } from 'react'
import { CircleCheck, CircleDashed, TriangleAlert } from 'lucide-react'
import { groupDigits } from '@/core/bytes/size'
import { copiedByMap } from '@/core/survey/copied-by-map'
import type { DriveSurvey } from '@/core/survey/types'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { useJobs } from '@/ui/frame/events'
import { Button } from '@/ui/shared/button'

interface MapCheckLineProps {
  readonly moveId: string
  readonly survey: DriveSurvey
  readonly progress?: { readonly title: string; readonly files: number }
}

/** Whether the used-block maps, which decide what is copied, were checked against the files. What they miss is a finding. */
export function MapCheckLine({ moveId, survey, progress }: MapCheckLineProps) {
  const { act, busy } = useAct()
  const { settle } = useActions()
  const [live, setLive] = useState<MapCheckLineProps['progress']>()
  useJobs((job) => {
    if (job.moveId === moveId && job.kind === 'map-check') setLive({ title: job.about ?? '', files: job.done })
  })
  const parts = survey.partitions.filter(copiedByMap)
  if (parts.length === 0) return null
  const of = (map: 'checked' | 'unchecked' | undefined) =>
    parts.flatMap((p) => (p.volume?.map === map ? [p.title] : [])).join(', ')
  const [checked, untold, open] = [of('checked'), of('unchecked'), of(undefined)]
  if (open && progress) {
    const { title, files } = live && live.files > progress.files ? live : progress
    return (
      <p className="mb-2 flex gap-2.5" role="status" data-testid="maps">
        <CircleDashed size={16} className="mt-0.5 shrink-0 text-sea-4" aria-hidden />
        <span>
          Maps of used blocks are being held against the files: <span className="font-mono">{groupDigits(files)}</span>{' '}
          files of {title} so far
        </span>
      </p>
    )
  }
  return (
    <div className="mb-2 space-y-2" data-testid="maps">
      {checked && (
        <p className="flex gap-2.5">
          <CircleCheck size={16} className="mt-0.5 shrink-0 text-weed" aria-hidden />
          <span>Used-block maps match the files: {checked}</span>
        </p>
      )}
      {untold && (
        <p className="flex gap-2.5">
          <TriangleAlert size={16} className="mt-0.5 shrink-0 text-ochre" aria-hidden />
          <span>Used-block maps that cannot be checked here are trusted: {untold}</span>
        </p>
      )}
      {open && (
        <p className="flex flex-wrap items-center gap-2.5">
          <TriangleAlert size={16} className="shrink-0 text-ochre" aria-hidden />
          <span>Used-block maps not checked against the files: {open}</span>
          <Button small disabled={busy} onClick={() => void act(() => settle(moveId, { action: 'check-maps' }))}>
            Check now
          </Button>
        </p>
      )}
    </div>
  )
}
