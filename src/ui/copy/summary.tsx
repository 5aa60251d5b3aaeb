import { formatDuration, formatRate, formatSize } from '@/core/bytes/size'
import type { CopySummary } from '@/core/copy/progress'
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

/** Bytes that were copied but did not read back equal. */
export function lostBytes({ copiedBytes, checkedBytes }: CopySummary): number {
  return copiedBytes - checkedBytes
}

function lostFact(summary: CopySummary): Fact {
  const lost = lostBytes(summary)
  return { name: 'Lost', value: lost === 0 ? 'nothing' : formatSize(lost), tone: lost === 0 ? 'good' : 'bad' }
}
