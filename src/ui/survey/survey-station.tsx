'use client'

import { useState } from 'react'
import { clsx } from 'clsx'
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
          scheme={schemeOf(survey.source)}
          selected={selected}
          onSelect={setSelected}
        />
        <SurveyHull title="Target" drive={target} parts={hullParts(survey.target)} scheme={schemeOf(survey.target)} />
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
  const system = source.partitions.find((p) => p.system)
  if (!system?.volume) return 'The source is sound, and no system was found on it'
  const share = Math.round((system.volume.usedBytes / system.volume.totalBytes) * 100)
  return `${share} % of ${system.title} is used, and all of it is sound`
}

function reasonOf(source: DriveSurvey, target: DriveSurvey, targetName: string): string {
  const hidden = source.partitions.filter((p) => !p.hasLetter).length
  const system = source.partitions.find((p) => p.system)
  const holds =
    target.scheme === 'none'
      ? 'is empty'
      : target.scheme === 'unfinished'
        ? 'holds an unfinished copy'
        : `holds ${target.partitions.length} partitions`
  const first = system ? `${system.title} holds ${system.system!.name}. ` : ''
  return `${first}${hidden} of the ${source.partitions.length} partitions have no drive letter and must come along. The ${targetName} ${holds}.`
}

function schemeOf(survey: DriveSurvey): string {
  switch (survey.scheme) {
    case 'gpt':
      return survey.table?.backupEntriesCrc === survey.table?.entriesCrc
        ? 'GPT, both copies agree'
        : `GPT, from the ${survey.table?.from} copy`
    case 'none':
      return 'no partition table, empty'
    case 'damaged':
      return 'damaged partition table'
    case 'unfinished':
      return 'an unfinished copy'
  }
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

function PartitionTable({
  survey,
  selected,
  onSelect,
}: {
  survey: DriveSurvey
  selected: string
  onSelect: (key: string) => void
}) {
  return (
    <div className="mt-4 overflow-x-auto" tabIndex={0} role="region" aria-label="Partitions of the source">
      <table className="w-full text-[13.5px]">
        <thead className="border-b border-line-strong text-left text-ink-soft">
          <tr>
            {['Partition', 'No.', 'File system', 'Size', 'Used', 'First sector', 'Letter'].map((name, i) => (
              <th
                key={name}
                scope="col"
                className={clsx('px-2 py-1.5 font-semibold', i > 0 && i !== 2 && 'text-right')}
              >
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {survey.partitions.map((p) => (
            <tr
              key={p.number}
              onClick={() => onSelect(String(p.number))}
              className={clsx(
                'cursor-pointer border-b border-line',
                String(p.number) === selected && 'bg-magenta-wash',
              )}
            >
              <th scope="row" className="px-2 py-1.5 text-left font-semibold">
                <button type="button" onClick={() => onSelect(String(p.number))} className="text-left">
                  {p.title}
                </button>
              </th>
              <td className="px-2 py-1.5 text-right font-mono whitespace-nowrap">{p.number}</td>
              <td className="px-2 py-1.5">{p.volume ? `${p.volume.name}, ${p.volume.state}` : 'none'}</td>
              <td className="px-2 py-1.5 text-right font-mono whitespace-nowrap">{formatSize(p.sizeBytes)}</td>
              <td className="px-2 py-1.5 text-right font-mono whitespace-nowrap">
                {p.volume ? formatSize(p.volume.usedBytes) : '—'}
              </td>
              <td className="px-2 py-1.5 text-right font-mono whitespace-nowrap">{groupDigits(p.firstLba)}</td>
              <td className="px-2 py-1.5 text-right">{p.hasLetter ? (p.role === 'system' ? 'C:' : 'yes') : 'none'}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
