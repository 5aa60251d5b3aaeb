'use client'

import { contentWords, schemeWords } from '@/core/survey/words'
import { useState } from 'react'
import { formatSize, groupDigits } from '@/core/bytes/size'
import type { DriveSurvey, PartitionSurvey } from '@/core/survey/types'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { DepthProfile } from '@/ui/shared/depth-profile'
import { type Fact, Facts } from '@/ui/shared/facts'
import { FindingList } from '@/ui/shared/finding-list'
import { Plate, type PlateDrive } from '@/ui/shared/plate'
import { type Column, SelectableTable } from '@/ui/shared/selectable-table'
import { hullParts } from './hull-parts'
import { SurveyHull } from './survey-hull'

interface SurveyView {
  readonly survey: {
    readonly source: DriveSurvey
    readonly target: DriveSurvey
    readonly confirmed: boolean
    readonly read: string
  } | null
  readonly source: PlateDrive
  readonly target: PlateDrive
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
      heading={headingOf(survey.source)}
      reason={reasonOf(survey.source, survey.target, target.name)}
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
          scheme={schemeWords(survey.source)}
          selected={selected}
          onSelect={setSelected}
        />
        <SurveyHull
          title="Target"
          drive={target}
          parts={hullParts(survey.target)}
          scheme={schemeWords(survey.target)}
        />
      </div>
      <section className="panel mt-4 p-4">
        <div className="mb-1 flex flex-wrap justify-between gap-x-4">
          <h2 className="font-bold">What is used where on the source</h2>
          <span className="text-[13px] text-ink-soft">first sector to last; the deeper, the fuller</span>
        </div>
        <DepthProfile
          profile={survey.source.profile}
          sizeBytes={survey.source.sizeBytes}
          label={`Use of the ${source.name} from first sector to last`}
        />
      </section>
      <PartitionTable survey={survey.source} selected={selected} onSelect={setSelected} />
      <section className="mt-5">
        <h2 className="mb-2 font-bold">What was noticed</h2>
        <FindingList
          findings={[
            ...survey.source.findings,
            ...survey.source.partitions.flatMap((p) =>
              p.findings.map((f) => ({ ...f, sentence: `${p.title}: ${f.sentence}` })),
            ),
            ...survey.target.findings.map((f) => ({ ...f, sentence: `Target: ${f.sentence}` })),
          ]}
        />
      </section>
    </Stage>
  )
}

function headingOf(source: DriveSurvey): string {
  if (source.scheme !== 'gpt') return 'The source cannot be moved as it is'
  const damage = [...source.findings, ...source.partitions.flatMap((p) => p.findings)].filter(
    (f) => f.severity === 'damage',
  )
  if (damage.length > 0)
    return `${damage.length === 1 ? 'One thing is' : `${damage.length} things are`} damaged on the source`
  const dirty = source.partitions.find((p) => p.volume?.state === 'dirty')
  if (dirty) return `${dirty.title} was not closed cleanly`
  const system = source.partitions.find((p) => p.system)
  if (!system?.volume) return 'The source is sound, and no system was found on it'
  const share = Math.round((system.volume.usedBytes / system.volume.totalBytes) * 100)
  return `${share} % of ${system.title} is used, and all of it is sound`
}

function reasonOf(source: DriveSurvey, target: DriveSurvey, targetName: string): string {
  const hidden = source.partitions.filter((p) => !p.hasLetter).length
  const system = source.partitions.find((p) => p.system)
  const first = system ? `${system.title} holds ${system.system!.name}. ` : ''
  return `${first}${hidden} of the ${source.partitions.length} partitions have no drive letter and must come along. The ${targetName} holds ${contentWords(target)}.`
}

function PartitionDetails({ partition }: { partition: PartitionSurvey }) {
  const { volume } = partition
  const facts: Fact[] = [
    { name: 'Size', value: formatSize(partition.sizeBytes), mono: true },
    ...(volume
      ? ([
          { name: 'Used', value: formatSize(volume.usedBytes), mono: true },
          { name: 'Last file ends at', value: formatSize(volume.smallestBytes), mono: true },
          { name: 'Cluster', value: formatSize(volume.clusterSize), mono: true },
          { name: 'Serial', value: volume.serial, mono: true },
          { name: 'State', value: volume.state, tone: volume.state === 'clean' ? 'good' : 'bad' },
        ] satisfies Fact[])
      : [{ name: 'File system', value: 'none that is known' }]),
    ...(partition.system ? [{ name: 'System', value: partition.system.name }] : []),
    {
      name: 'Drive letter',
      value: partition.hasLetter ? 'yes' : 'none',
      tone: partition.hasLetter ? undefined : 'caution',
    },
    {
      name: 'Alignment',
      value: partition.aligned ? '1 MiB, good' : 'off 1 MiB',
      tone: partition.aligned ? 'good' : 'caution',
    },
  ]
  return (
    <AsideBlock title="Selected partition">
      <p className="mb-3 text-[19px] font-bold">
        {partition.title}{' '}
        {volume && (
          <span className="rounded border border-sea-4 px-1.5 align-middle font-mono text-xs text-sea-4">
            {volume.name}
          </span>
        )}
      </p>
      <Facts facts={facts} />
      <p className="mt-2 font-mono text-[12px] break-all text-ink-soft">{partition.guid}</p>
    </AsideBlock>
  )
}

const COLUMNS: readonly Column[] = [
  { name: 'No.', kind: 'number' },
  { name: 'File system', kind: 'words' },
  { name: 'Size', kind: 'number' },
  { name: 'Used', kind: 'number' },
  { name: 'First sector', kind: 'number' },
  { name: 'Letter', kind: 'words' },
]

interface PartitionTableProps {
  readonly survey: DriveSurvey
  readonly selected: string
  readonly onSelect: (key: string) => void
}

function PartitionTable({ survey, selected, onSelect }: PartitionTableProps) {
  const rows = survey.partitions.map((p) => ({
    key: String(p.number),
    title: p.title,
    cells: [
      p.number,
      p.volume ? `${p.volume.name}, ${p.volume.state}` : 'none',
      formatSize(p.sizeBytes),
      p.volume ? formatSize(p.volume.usedBytes) : '—',
      groupDigits(p.firstLba),
      p.hasLetter ? (p.role === 'system' ? 'C:' : 'yes') : 'none',
    ],
  }))
  return (
    <SelectableTable
      label="Partitions of the source"
      title="Partition"
      columns={COLUMNS}
      rows={rows}
      selected={selected}
      onSelect={onSelect}
    />
  )
}
