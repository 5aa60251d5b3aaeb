import type { ReactNode } from 'react'
import { formatDuration, formatRate, formatSize, groupDigits } from '@/core/bytes/size'
import { type CopySummary, type Lost, lostWords } from '@/core/copy/progress'
import { shortDigest } from '@/core/digest'
import { type Fact, Facts } from '@/ui/shared/facts'

/** What a copy came to; stays on the screen. */
export function CopySummaryPanel({ summary, tools }: { summary: CopySummary; tools?: ReactNode }) {
  const { copiedBytes, writtenBytes, copySeconds, checkSeconds } = summary
  return (
    <section className="panel mt-4 grid gap-x-10 gap-y-4 p-4 md:grid-cols-2" data-testid="summary">
      <div>
        <h2 className="mb-2 font-bold">What was copied</h2>
        <Facts facts={summary.partitions.flatMap(partFacts)} />
      </div>
      <div>
        <div className="mb-2 flex flex-wrap items-baseline justify-between gap-2">
          <h2 className="font-bold">How it went</h2>
          {tools}
        </div>
        <Facts
          facts={[
            {
              name: 'Copying',
              value: `${formatDuration(copySeconds)}, ${formatRate(copiedBytes / copySeconds)}`,
              mono: true,
            },
            summary.checkedBytes > 0
              ? {
                  name: 'Reading back',
                  value: `${formatDuration(checkSeconds)}, ${formatRate(summary.checkedBytes / checkSeconds)}`,
                  mono: true,
                }
              : { name: 'Reading back', value: 'not done, as chosen', tone: 'caution' as const },
            { name: 'Written as data', value: formatSize(writtenBytes), mono: true },
            {
              name: 'Zeros on both drives',
              value: formatSize(copiedBytes - writtenBytes),
              mono: true,
            },
            ...(summary.resumed > 0
              ? [{ name: 'Cut off and gone on', value: summary.resumed === 1 ? 'once' : `${summary.resumed} times` }]
              : []),
            ...(summary.rewritten > 0
              ? [
                  {
                    name: 'Written a second time',
                    value: `${summary.rewritten} pieces, equal then`,
                    tone: 'caution' as const,
                  },
                ]
              : []),
            ...liveFacts(summary),
            ...summary.further.map(({ name, why }) => ({
              name: `${name} too`,
              value: why === null ? 'written and checked alike' : `let go: ${why}`,
              tone: why === null ? ('good' as const) : ('bad' as const),
            })),
            lostFact(summary),
            ...(summary.digest
              ? [
                  {
                    name: `${summary.digestName} over the pieces’ digests`,
                    value: shortDigest(summary.digest),
                    mono: true,
                  },
                ]
              : []),
          ]}
        />
      </div>
    </section>
  )
}

/** What was taken of a partition, and under it what was not. */
function partFacts(p: CopySummary['partitions'][number]): Fact[] {
  const rest = [
    p.everySector ?? '',
    p.mapFinding ?? (p.map === 'unchecked' ? 'its map was not held against its files' : ''),
    p.skippedBytes > 0 ? `${formatSize(p.skippedBytes)} free, skipped` : '',
    ...p.leftOut.map((file) => `${file.path.slice(1)} left out, ${formatSize(file.bytes)}`),
    p.seconds >= 1 ? formatDuration(p.seconds) : '',
  ].filter(Boolean)
  return [
    {
      name: p.number === 0 ? p.title : `${p.number} ${p.title}`,
      value: (
        <>
          <span className="text-[12.5px] text-ink-soft">{p.mode === 'used' ? 'used blocks' : 'every sector'}</span>{' '}
          <span className="font-mono">{formatSize(p.bytes)}</span>
          {rest.length > 0 && <span className="block text-[12.5px] text-ink-soft">{rest.join(' · ')}</span>}
        </>
      ),
    },
  ]
}

function liveFacts({ live }: CopySummary): Fact[] {
  if (!live) return []
  const changed = `${live.files.length} ${live.files.length === 1 ? 'file' : 'files'}`
  return [
    live.oneMoment
      ? { name: 'Of one moment', value: 'yes, the one it started at', tone: 'good' }
      : { name: 'Of one moment', value: 'no; it ran while it was copied', tone: 'bad' },
    { name: 'Changed meanwhile on the source', value: `${formatSize(live.changedBytes)} in ${changed}`, mono: true },
    ...(live.keptBytes > 0 ? [{ name: 'Snapshot held', value: formatSize(live.keptBytes), mono: true }] : []),
  ]
}

/** What was written on the source while it was copied. */
export function ChangedList({ live }: { live: NonNullable<CopySummary['live']> }) {
  if (live.files.length === 0) return null
  return (
    <section className="panel mt-4 p-4" data-testid="changed">
      <h2 className="mb-1 font-bold">What was written meanwhile</h2>
      <p className="mb-3 text-ink-soft">
        {live.oneMoment
          ? 'The copy has these files as they were when it started; the old drive has them as they are now.'
          : 'These files may be in the copy half old and half new. Copy again with a snapshot, or look at them.'}
      </p>
      <ul className="space-y-1.5">
        {live.files.map(({ partition, path }) => (
          <li key={`${partition} ${path}`} className="border-b border-line pb-1.5 font-mono text-[13px] break-all">
            {path} <span className="text-ink-soft">partition {partition}</span>
          </li>
        ))}
      </ul>
    </section>
  )
}

/** A file to keep. */
export function SaveLink({ href, children }: { href: string; children: ReactNode }) {
  return (
    <a
      href={href}
      download
      className="rounded-md border border-line-strong bg-sheet px-2.5 py-0.5 text-[13px] font-semibold hover:bg-sunk"
    >
      {children}
    </a>
  )
}

function lostFact({ lost }: CopySummary): Fact {
  return {
    name: 'Lost',
    value: lost.length === 0 ? 'nothing' : lostWords(lost),
    tone: lost.length === 0 ? 'good' : 'bad',
  }
}

/** What the source did not give, sector by sector and file by file. */
export function LostList({ lost, tools }: { lost: readonly Lost[]; tools?: ReactNode }) {
  return (
    <section className="panel mt-4 p-4" data-testid="lost">
      <div className="mb-1 flex flex-wrap items-baseline justify-between gap-2">
        <h2 className="font-bold">What could not be read</h2>
        {tools}
      </div>
      <p className="mb-3 text-ink-soft">
        Zeros stand in its place on the target; everything else is there. These files need their backup.
      </p>
      <ul className="space-y-1.5">
        {lost.map((run) => (
          <li key={run.sourceLba} className="flex flex-wrap justify-between gap-x-6 border-b border-line pb-1.5">
            <span className="min-w-0 break-words">
              {run.files.length > 0 ? run.files.join(', ') : 'no file; the place belongs to none that can be told'}
            </span>
            <span className="font-mono text-[13px] text-ink-soft">
              partition {run.partition}, sector {groupDigits(run.sourceLba)}
              {run.sectors > 1 && ` and ${run.sectors - 1} more`}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}
