import { formatSize } from '@/core/bytes/size'
import { copiedByMap } from '@/core/survey/copied-by-map'
import type { PartitionSurvey } from '@/core/survey/types'
import { AsideBlock } from '@/ui/frame/stage'
import { type Fact, Facts } from '@/ui/shared/facts'
import { letterWords, stateWords } from './partition-table'

const IDLE_KINDS = { page: 'Page file', swap: 'Swap file', hibernation: 'Hibernation file' } as const

const MAPS = {
  checked: { value: 'matches the files', tone: 'good' },
  unchecked: { value: 'not checked', tone: 'caution' },
  missed: { value: 'misses some', tone: 'bad' },
} as const

/** All that was found out about one partition. */
export function PartitionDetails({ partition }: { partition: PartitionSurvey }) {
  const { volume, system, mbr, idleFiles } = partition
  const facts: Fact[] = [
    { name: 'Size', value: formatSize(partition.sizeBytes), mono: true },
    ...(volume
      ? ([
          { name: 'Used', value: formatSize(volume.usedBytes), mono: true },
          { name: 'Last file ends at', value: formatSize(volume.smallestBytes), mono: true },
          ...(volume.shrunkBytes === undefined
            ? []
            : [{ name: 'Files moved together', value: formatSize(volume.shrunkBytes), mono: true }]),
          ...(volume.depth === 'sealed'
            ? []
            : [{ name: 'Cluster', value: formatSize(volume.clusterSize), mono: true }]),
          ...(volume.serial ? [{ name: 'Serial', value: volume.serial, mono: true }] : []),
          {
            name: 'State',
            value: stateWords(volume.state),
            tone: volume.state === 'clean' ? 'good' : volume.state === 'unknown' ? 'caution' : 'bad',
          },
          ...(copiedByMap(partition) && volume.map
            ? [{ name: 'Used-block map', ...MAPS[volume.map] } satisfies Fact]
            : []),
        ] satisfies Fact[])
      : [{ name: 'File system', value: partition.role === 'extended' ? 'a container' : 'none that is known' }]),
    ...(system ? [{ name: 'System', value: [system.name, system.version].filter(Boolean).join(' ') }] : []),
    ...idleFiles.map((file): Fact => ({
      name: IDLE_KINDS[file.kind],
      value: file.asleep ? `${formatSize(file.sizeBytes)}, asleep` : formatSize(file.sizeBytes),
      mono: true,
      tone: file.asleep ? 'caution' : undefined,
    })),
    ...(mbr ? [{ name: 'Type', value: mbr.type.toString(16).toUpperCase().padStart(2, '0'), mono: true }] : []),
    ...(partition.role === 'extended'
      ? []
      : ([
          {
            name: 'Drive letter',
            value: letterWords(partition.volume, partition.hasLetter),
            tone: letterWords(partition.volume, partition.hasLetter) === 'none' ? 'caution' : undefined,
          },
        ] satisfies Fact[])),
    {
      name: 'Alignment',
      value: partition.aligned ? '1 MiB, good' : partition.startBytes % 4096 === 0 ? '4 KiB' : 'off 4 KiB',
      tone: partition.aligned ? 'good' : 'caution',
    },
  ]
  return (
    <AsideBlock title="Selected partition">
      <p className="mb-3 text-[19px] font-bold break-words">
        {partition.title}{' '}
        {volume && (
          <span className="rounded border border-sea-4 px-1.5 align-middle font-mono text-xs text-sea-4">
            {volume.name}
          </span>
        )}
      </p>
      <Facts facts={facts} />
      {volume?.shrunkMargin && (
        <p className="mt-2 text-[12.5px] text-ink-soft">With its files moved together: {volume.shrunkMargin}.</p>
      )}
      {partition.guid && <p className="mt-2 font-mono text-[12px] break-all text-ink-soft">{partition.guid}</p>}
    </AsideBlock>
  )
}
