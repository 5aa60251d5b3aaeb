'use client'

import Link from 'next/link'
import { useState } from 'react'
import type { Health } from '@/core/health/health'
import type { DriveSurvey } from '@/core/survey/types'
import { contentWords, findingsOf, headingOf, reasonOf, schemeWords } from '@/core/survey/words'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { FindingList } from '@/ui/shared/finding-list'
import { Plate, type PlateDrive } from '@/ui/shared/plate'
import { Differences } from './differences'
import { UsePanel } from './drive-picture'
import { hullParts } from './hull-parts'
import { PartitionDetails } from './partition-details'
import { PartitionTable } from './partition-table'
import { SurveyHull } from './survey-hull'

interface SurveyView {
  readonly survey: {
    readonly source: DriveSurvey
    readonly target: DriveSurvey
    readonly confirmed: boolean
    readonly read: string
  } | null
  readonly source: PlateDrive & { readonly id: string }
  readonly target: PlateDrive & { readonly id: string }
  readonly health: { readonly source?: Health; readonly target?: Health }
}

/** What is really on each drive. */
export function SurveyStation({ moveId, view }: { moveId: string; view: SurveyView }) {
  const { act, busy } = useAct()
  const { confirmSurvey, readDrives } = useActions()
  const { survey, source, target } = view
  const system = survey?.source.partitions.find((p) => p.role === 'system')
  const [selected, setSelected] = useState(system ? String(system.number) : '')
  if (!survey) {
    return (
      <Stage
        heading="The drives have not been read yet"
        reason="Reading writes nothing."
        next={<NextAction label="Read both drives" onAct={() => void act(() => readDrives(moveId))} disabled={busy} />}
      >
        <div />
      </Stage>
    )
  }
  const partition = survey.source.partitions.find((p) => String(p.number) === selected)
  return (
    <Stage
      heading={headingFor(survey.source, view.health.source)}
      reason={reasonFor(survey.source, survey.target, target.name, view.health.source)}
      tools={
        <Button onClick={() => void act(() => readDrives(moveId))} disabled={busy}>
          Read again
        </Button>
      }
      aside={
        <>
          {partition ? <PartitionDetails partition={partition} /> : null}
          <AsideBlock title="Drives">
            <div className="space-y-3">
              <Plate drive={source} role={`Source, read ${survey.read}`} capacity />
              <Plate drive={target} role="Target" capacity />
            </div>
          </AsideBlock>
        </>
      }
      next={
        <NextAction
          label="Go on to Route"
          onAct={() => void act(() => confirmSurvey(moveId), `/moves/${moveId}/route`)}
          disabled={busy || survey.source.partitions.length === 0}
          hint={survey.source.partitions.length === 0 ? 'There is nothing on the source that can be moved.' : undefined}
        />
      }
    >
      <div className="panel grid gap-2 p-4 md:grid-cols-2">
        <SurveyHull
          title="Source"
          drive={source}
          parts={hullParts(survey.source)}
          scheme={`Partition table: ${schemeWords(survey.source)}`}
          selected={selected}
          onSelect={setSelected}
        />
        <SurveyHull
          title="Target"
          drive={target}
          parts={hullParts(survey.target)}
          scheme={`Partition table: ${schemeWords(survey.target)}`}
        />
      </div>
      <UsePanel survey={survey.source} title="What is used where on the source" name={source.name} />
      <PartitionTable
        survey={survey.source}
        selected={selected}
        onSelect={setSelected}
        label="Partitions of the source"
      />
      <section className="mt-5">
        <h2 className="mb-2 font-bold">What was noticed</h2>
        <FindingList
          findings={[
            ...findingsOf(survey.source),
            ...findingsOf(survey.target).map((f) => ({ ...f, sentence: `Target: ${f.sentence}` })),
          ]}
        />
      </section>
      <Differences
        source={{ drive: source, survey: survey.source, health: view.health.source }}
        target={{ drive: target, survey: survey.target, health: view.health.target }}
      />
      <p className="mt-4 flex flex-wrap gap-x-5 text-[13.5px]">
        {[source, target].map((drive) => (
          <Link key={drive.id} href={`/drives/${drive.id}`} className="font-semibold text-sea-4 underline">
            Look inside the {drive.name}
          </Link>
        ))}
      </p>
    </Stage>
  )
}

/** What the survey came to, for a move: its source first. */
function headingFor(source: DriveSurvey, health?: Health): string {
  if (source.scheme !== 'gpt') return 'The source cannot be moved as it is'
  const heading = headingOf(source, health)
  return heading.endsWith('damaged') ? `${heading} on the source` : heading
}

function reasonFor(source: DriveSurvey, target: DriveSurvey, targetName: string, health?: Health): string {
  return `${reasonOf(source, health)} The ${targetName} holds ${contentWords(target)}.`
}
