'use client'

import { useState } from 'react'
import { CircleCheck, CircleDashed, TriangleAlert } from 'lucide-react'
import { groupDigits } from '@/core/bytes/size'
import { goesByMap } from '@/core/survey/goes-by-map'
import type { DriveSurvey } from '@/core/survey/types'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { useMapsLooked } from '@/ui/frame/events'
import { Button } from '@/ui/shared/button'

interface MapsLineProps {
  readonly moveId: string
  readonly survey: DriveSurvey
  readonly being?: { readonly title: string; readonly files: number }
}

/** Whether the maps of used blocks, which a copy goes by, were held against the files; what they miss is a finding. */
export function MapsLine({ moveId, survey, being }: MapsLineProps) {
  const { act, busy } = useAct()
  const { settle } = useActions()
  const [live, setLive] = useState<MapsLineProps['being']>()
  useMapsLooked(({ moveId: id, title, files }) => {
    if (id === moveId) setLive({ title, files })
  })
  const parts = survey.partitions.filter(goesByMap)
  if (parts.length === 0) return null
  const of = (map: 'checked' | 'unchecked' | undefined) =>
    parts.flatMap((p) => (p.volume?.map === map ? [p.title] : [])).join(', ')
  const [checked, untold, open] = [of('checked'), of('unchecked'), of(undefined)]
  if (open && being) {
    const { title, files } = live && live.files > being.files ? live : being
    return (
      <p className="mb-2 flex gap-2.5" role="status" data-testid="maps">
        <CircleDashed size={16} className="mt-0.5 shrink-0 text-sea-4" aria-hidden />
        <span>
          Maps of used blocks are being held against the files: <span className="font-mono">{groupDigits(files)}</span>{' '}
          of {title} looked at
        </span>
      </p>
    )
  }
  return (
    <div className="mb-2 space-y-2" data-testid="maps">
      {checked && (
        <p className="flex gap-2.5">
          <CircleCheck size={16} className="mt-0.5 shrink-0 text-weed" aria-hidden />
          <span>Every block that a file uses is in the map of used blocks: {checked}</span>
        </p>
      )}
      {untold && (
        <p className="flex gap-2.5">
          <TriangleAlert size={16} className="mt-0.5 shrink-0 text-ochre" aria-hidden />
          <span>The map of used blocks is believed, it cannot be held against the files here: {untold}</span>
        </p>
      )}
      {open && (
        <p className="flex flex-wrap items-center gap-2.5">
          <TriangleAlert size={16} className="shrink-0 text-ochre" aria-hidden />
          <span>The map of used blocks was not held against the files: {open}</span>
          <Button small disabled={busy} onClick={() => void act(() => settle(moveId, { action: 'check-maps' }))}>
            Check it
          </Button>
        </p>
      )}
    </div>
  )
}
