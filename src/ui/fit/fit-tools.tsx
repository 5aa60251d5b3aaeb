'use client'

import { useRef } from 'react'
import { Download, Redo2, Undo2, Upload } from 'lucide-react'
import { toast } from 'sonner'
import { formatCapacity } from '@/core/bytes/size'
import { type FitFile, readFitFile } from '@/core/fit/fit-file'
import { startingPoints } from '@/core/fit/starts'
import type { FitWish, Layout } from '@/core/fit/types'
import { movedPartitions } from '@/core/fit/ends'
import { CoreError } from '@/core/errors'
import type { DriveSurvey } from '@/core/survey/types'
import { Button, IconButton } from '@/ui/shared/button'

interface FitToolsProps {
  readonly survey: DriveSurvey
  readonly sourceName: string
  readonly wish: FitWish
  readonly layout?: Layout
  readonly canUndo: boolean
  readonly canRedo: boolean
  readonly onUndo: () => void
  readonly onRedo: () => void
  readonly onWish: (wish: FitWish) => void
}

/** What a fit can begin with, steps back and forth, and fits as files. */
export function FitTools(props: FitToolsProps) {
  const { survey, sourceName, wish, layout, canUndo, canRedo, onUndo, onRedo, onWish } = props
  const file = useRef<HTMLInputElement>(null)
  const points = startingPoints(survey)
  const idle = points.find((p) => p.idle)?.idle
  const take = async (chosen: File | undefined) => {
    if (!chosen) return
    try {
      onWish(readFitFile(await chosen.text(), survey).wish)
      toast.success('The fit was taken from the file.')
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
      toast.error(error.message)
    }
  }
  return (
    <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
      <div className="flex flex-wrap items-center gap-1.5" role="group" aria-label="Begin with">
        {points.map(({ id, name, says, wish: start, idle }) => (
          <Button
            key={id}
            small
            title={idle ?? says}
            disabled={idle !== undefined}
            aria-pressed={same(start, wish)}
            onClick={() => onWish(start)}
          >
            {name}
          </Button>
        ))}
      </div>
      {idle && <p className="max-w-[60ch] text-[13px] text-ink-soft">{idle}</p>}
      <div className="ml-auto flex items-center gap-1">
        <IconButton label="Undo" onClick={onUndo} disabled={!canUndo}>
          <Undo2 size={17} aria-hidden />
        </IconButton>
        <IconButton label="Redo" onClick={onRedo} disabled={!canRedo}>
          <Redo2 size={17} aria-hidden />
        </IconButton>
        <IconButton label="Save this fit as a file" disabled={!layout} onClick={() => layout && save(layout)}>
          <Download size={17} aria-hidden />
        </IconButton>
        <IconButton label="Load a fit from a file" onClick={() => file.current?.click()}>
          <Upload size={17} aria-hidden />
        </IconButton>
        <input
          ref={file}
          type="file"
          accept=".json,application/json"
          aria-label="Fit file"
          className="sr-only"
          tabIndex={-1}
          onChange={(event) => {
            void take(event.target.files?.[0])
            event.target.value = ''
          }}
        />
      </div>
    </div>
  )

  function save(made: Layout) {
    const content: FitFile = {
      $schema: `${window.location.origin}/api/fits/schema`,
      format: 'imbarco fit',
      version: 1,
      source: {
        name: sourceName,
        sizeBytes: survey.sizeBytes,
        partitions: movedPartitions(survey).map(({ number, title }) => ({ number, title })),
      },
      wish,
      layout: made,
    }
    const link = document.createElement('a')
    link.href = URL.createObjectURL(new Blob([JSON.stringify(content, null, 2)], { type: 'application/json' }))
    link.download = `fit on ${formatCapacity(made.targetSizeBytes)}.json`
    link.click()
    URL.revokeObjectURL(link.href)
  }
}

function same(a: FitWish, b: FitWish): boolean {
  return JSON.stringify(a) === JSON.stringify(b)
}
