'use client'

import { Link } from '@/ui/frame/link'
import { type ReactNode, useState } from 'react'
import type { Health } from '@/core/health/health'
import type { DriveSurvey } from '@/core/survey/types'
import { contentWords, findingsOf, headingOf, reasonOf, schemeWords } from '@/core/survey/words'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { FindingList } from '@/ui/shared/finding-list'
import { PairTabs } from '@/ui/shared/pair-tabs'
import { Plate, type PlateDrive } from '@/ui/shared/plate'
import { Differences } from './differences'
import { UsePanel } from './drive-picture'
import { hullParts } from './hull-parts'
import { MapCheckLine } from './map-check-line'
import { PartitionDetails } from './partition-details'
import { PartitionTable } from './partition-table'
import { SurveyHull } from './survey-hull'

type SurveyedDrive = PlateDrive & { readonly id: string }

interface SurveyView {
  readonly survey: { readonly confirmed: boolean; readonly read: string } | null
  /** The maps of used blocks are being held against the files. */
  readonly mapCheckProgress?: { readonly title: string; readonly files: number }
  readonly pairs: readonly {
    readonly source: SurveyedDrive
    readonly target?: SurveyedDrive
    /** The one partition that moves; the whole drive without. */
    readonly volume?: number
    readonly read?: { readonly source: DriveSurvey; readonly target: DriveSurvey | null }
    readonly health: { readonly source?: Health; readonly target?: Health }
  }[]
}

/** What is really on each drive. */
export function SurveyStation({ moveId, view }: { moveId: string; view: SurveyView }) {
  const { act, busy } = useAct()
  const { readDrives } = useActions()
  const [shown, setShown] = useState(0)
  if (!view.survey) {
    const both = view.pairs.length === 1 && view.pairs[0].target
    return (
      <Stage
        heading="The drives have not been read yet"
        reason="Reading writes nothing."
        next={
          <NextAction
            label={both ? 'Read both drives' : 'Read the drives'}
            onAct={() => void act(() => readDrives(moveId))}
            disabled={busy}
          />
        }
      >
        <div />
      </Stage>
    )
  }
  const pair = view.pairs[shown]
  const tabs = (
    <PairTabs
      label="Drive that is shown"
      names={view.pairs.map((p) => p.source.name)}
      selected={shown}
      onSelect={setShown}
    />
  )
  return (
    <SurveyedPair
      key={shown}
      moveId={moveId}
      readAt={view.survey.read}
      pair={pair}
      tabs={tabs}
      mapCheckProgress={view.mapCheckProgress}
    />
  )
}

interface SurveyedPairProps {
  readonly moveId: string
  readonly readAt: string
  readonly pair: SurveyView['pairs'][number]
  readonly tabs: ReactNode
  readonly mapCheckProgress: SurveyView['mapCheckProgress']
}

function SurveyedPair({ moveId, readAt, pair, tabs, mapCheckProgress }: SurveyedPairProps) {
  const { act, busy } = useAct()
  const { confirmSurvey, readDrives } = useActions()
  const { source, target, health } = pair
  const read = pair.read!
  const { volume } = pair
  const moved: DriveSurvey =
    volume === undefined
      ? read.source
      : { ...read.source, partitions: read.source.partitions.filter((p) => p.number === volume) }
  const system = moved.partitions.find((p) => p.role === 'system') ?? moved.partitions.at(0)
  const [selected, setSelected] = useState(system ? String(system.number) : '')
  const partition = read.source.partitions.find((p) => String(p.number) === selected)
  const both = target && read.target ? { drive: target, survey: read.target } : undefined
  return (
    <Stage
      heading={headingFor(moved, health.source)}
      reason={reasonFor(moved, both, health.source)}
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
              <Plate drive={source} role={`Source, read ${readAt}`} capacity />
              {target && <Plate drive={target} role="Target" capacity />}
            </div>
          </AsideBlock>
        </>
      }
      next={
        <NextAction
          label="Continue to Route"
          onAct={() => void act(() => confirmSurvey(moveId), `/moves/${moveId}/route`)}
          disabled={busy || read.source.partitions.length === 0}
          hint={read.source.partitions.length === 0 ? 'There is nothing on the source that can be moved.' : undefined}
        />
      }
    >
      {tabs}
      <div className="panel grid gap-2 p-4 md:grid-cols-2">
        <SurveyHull
          title="Source"
          drive={source}
          parts={hullParts(read.source)}
          scheme={`Partition table: ${schemeWords(read.source)}`}
          selected={selected}
          onSelect={setSelected}
        />
        {both ? (
          <SurveyHull
            title="Target"
            drive={both.drive}
            parts={hullParts(both.survey)}
            scheme={`Partition table: ${schemeWords(both.survey)}`}
          />
        ) : (
          <p className="self-center text-center text-ink-soft">
            It becomes a virtual disk, which is made when it is written.
          </p>
        )}
      </div>
      <UsePanel survey={read.source} title="What is used where on the source" name={source.name} />
      <PartitionTable
        survey={read.source}
        selected={selected}
        onSelect={setSelected}
        label="Partitions of the source"
      />
      <section className="mt-5">
        <h2 className="mb-2 font-bold">Findings</h2>
        <MapCheckLine moveId={moveId} survey={read.source} progress={mapCheckProgress} />
        <FindingList
          findings={[
            ...findingsOf(read.source),
            ...(both ? findingsOf(both.survey) : []).map((f) => ({ ...f, sentence: `Target: ${f.sentence}` })),
          ]}
        />
      </section>
      {both && (
        <Differences
          source={{ drive: source, survey: read.source, health: health.source }}
          target={{ drive: both.drive, survey: both.survey, health: health.target }}
        />
      )}
      <p className="mt-4 flex flex-wrap gap-x-5 text-[13.5px]">
        {[source, ...(target ? [target] : [])].map((drive) => (
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
  if (source.partitions.length === 0) return 'The source cannot be moved as it is'
  const heading = headingOf(source, health)
  return heading.endsWith('damaged') ? `${heading} on the source` : heading
}

function reasonFor(
  source: DriveSurvey,
  target: { drive: PlateDrive; survey: DriveSurvey } | undefined,
  health?: Health,
): string {
  const reason = reasonOf(source, health)
  return target ? `${reason} The ${target.drive.name} holds ${contentWords(target.survey)}.` : reason
}
