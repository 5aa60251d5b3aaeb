'use client'

import { type ReactNode, useState } from 'react'
import type { Health } from '@/core/health/health'
import type { DriveSurvey } from '@/core/survey/types'
import { findingsOf, headingOf, reasonOf, schemeWords } from '@/core/survey/words'
import { Stage } from '@/ui/frame/stage'
import { FindingList } from '@/ui/shared/finding-list'
import type { PlateDrive } from '@/ui/shared/plate'
import { UsePanel } from '@/ui/survey/drive-picture'
import { hullParts } from '@/ui/survey/hull-parts'
import { PartitionDetails } from '@/ui/survey/partition-details'
import { PartitionTable } from '@/ui/survey/partition-table'
import { Structures } from '@/ui/survey/structures'
import { SurveyHull } from '@/ui/survey/survey-hull'
import { FileBrowser } from './file-browser'
import { FileSearch } from './file-search'

interface LookProps {
  readonly subject: { readonly kind: 'drives' | 'images'; readonly id: string }
  readonly drive: PlateDrive
  readonly survey: DriveSurvey
  readonly health?: Health
  /** What stands at the right besides the selected partition. */
  readonly aside: ReactNode
  readonly tools?: ReactNode
  readonly next?: ReactNode
}

/** Everything that is known of one drive or image: finding, hull, use, partitions, notes, files, structures. */
export function Look({ subject, drive, survey, health, aside, tools, next }: LookProps) {
  const first = survey.partitions.find((p) => p.role === 'system') ?? survey.partitions.find((p) => p.role === 'data')
  const [selected, setSelected] = useState(String((first ?? survey.partitions[0])?.number ?? ''))
  const partition = survey.partitions.find((p) => String(p.number) === selected)
  const findings = findingsOf(survey)
  return (
    <Stage
      heading={headingOf(survey, health)}
      reason={reasonOf(survey, health)}
      tools={tools}
      aside={
        <>
          {aside}
          {partition && <PartitionDetails partition={partition} />}
        </>
      }
      next={next}
    >
      <div className="grid gap-x-6 md:grid-cols-[minmax(260px,360px)_minmax(0,1fr)]">
        <div className="panel p-4">
          <SurveyHull
            title=""
            drive={drive}
            parts={hullParts(survey)}
            scheme={`Partition table: ${schemeWords(survey)}`}
            selected={selected}
            onSelect={setSelected}
          />
        </div>
        <section className="max-md:mt-4">
          <h2 className="mb-2 font-bold">Findings</h2>
          {findings.length > 0 ? (
            <FindingList findings={findings} />
          ) : (
            <p className="text-ink-soft">Nothing out of the ordinary.</p>
          )}
        </section>
      </div>
      <UsePanel survey={survey} title="What is used where" name={drive.name} />
      {survey.partitions.length > 0 && <PartitionTable survey={survey} selected={selected} onSelect={setSelected} />}
      {partition?.volume?.depth === 'files' && (
        <FileBrowser key={partition.number} subject={subject} partition={partition.number} title={partition.title} />
      )}
      {survey.partitions.some((p) => p.volume?.depth === 'files') && (
        <FileSearch
          subject={subject}
          volumes={survey.partitions
            .filter((p) => p.volume?.depth === 'files')
            .map(({ number, title }) => ({ number, title }))}
        />
      )}
      <Structures subject={subject} />
    </Stage>
  )
}
