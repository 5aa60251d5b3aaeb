import { formatDuration, formatRate, formatSize, groupDigits } from '@/core/bytes/size'
import { type CopySummary, type Lost, lostWords } from '@/core/copy/progress'
import { shortDigest } from '@/core/digest'
import { type Fact, Facts } from '@/ui/shared/facts'

/** What a copy came to; stays on the screen. */
export function CopySummaryPanel({ summary }: { summary: CopySummary }) {
  const { copiedBytes, writtenBytes, copySeconds, checkSeconds } = summary
  return (
    <section className="panel mt-4 grid gap-x-10 gap-y-4 p-4 md:grid-cols-2" data-testid="summary">
      <div>
        <h2 className="mb-2 font-bold">What was copied</h2>
        <Facts
          facts={summary.partitions.map((p) => ({
            name: `${p.number} ${p.title}`,
            value: (
              <>
                <span className="text-[12.5px] text-ink-soft">
                  {p.mode === 'used' ? 'used blocks' : 'every sector'}
                </span>{' '}
                <span className="font-mono">{formatSize(p.bytes)}</span>
              </>
            ),
          }))}
        />
      </div>
      <div>
        <h2 className="mb-2 font-bold">How it went</h2>
        <Facts
          facts={[
            {
              name: 'Copying',
              value: `${formatDuration(copySeconds)}, ${formatRate(copiedBytes / copySeconds)}`,
              mono: true,
            },
            {
              name: 'Reading back',
              value: `${formatDuration(checkSeconds)}, ${formatRate(summary.checkedBytes / checkSeconds)}`,
              mono: true,
            },
            { name: 'Written as data', value: formatSize(writtenBytes), mono: true },
            {
              name: 'Zeros on both drives',
              value: formatSize(copiedBytes - writtenBytes),
              mono: true,
            },
            lostFact(summary),
            { name: 'SHA-256 over the digests of all pieces', value: shortDigest(summary.digest), mono: true },
          ]}
        />
      </div>
    </section>
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
export function LostList({ lost }: { lost: readonly Lost[] }) {
  return (
    <section className="panel mt-4 p-4" data-testid="lost">
      <h2 className="mb-1 font-bold">What could not be read</h2>
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
