import { clsx } from 'clsx'
import { type Health, healthVerdict } from '@/core/health/health'
import { formatSize, groupDigits } from '@/core/bytes/size'
import type { DriveSurvey } from '@/core/survey/types'
import { schemeWords } from '@/core/survey/words'
import type { PlateDrive } from '@/ui/shared/plate'

interface Side {
  readonly drive: PlateDrive
  readonly survey: DriveSurvey
  readonly health?: Health
}

const HEALTH_WORDS = { good: 'healthy', watch: 'worth watching', failing: 'failing', unknown: 'not known' } as const

/** Two drives in two columns; where they differ in a way that matters to a move, the line is marked. */
export function Differences({ source, target }: { source: Side; target: Side }) {
  const line = (name: string, of: (side: Side) => string, mono = false) => ({
    name,
    a: of(source),
    b: of(target),
    mono,
  })
  const lines = [
    line('Capacity', ({ survey }) => formatSize(survey.sizeBytes), true),
    line('Sectors', ({ survey }) => groupDigits(survey.sizeBytes / survey.logicalSectorSize), true),
    line('Sector size', ({ survey }) => `${survey.logicalSectorSize} bytes`, true),
    line('Partition table', ({ survey }) => schemeWords(survey)),
    line('Identity', ({ survey }) => survey.table?.diskGuid ?? survey.mbr?.diskSignature ?? 'none', true),
    line('Partitions', ({ survey }) => String(survey.partitions.length), true),
    line('Used', ({ survey }) => formatSize(survey.usedBytes), true),
    line('Health', ({ health }) => HEALTH_WORDS[healthVerdict(health).state]),
  ]
  const differ = lines.filter(({ a, b }) => a !== b).length
  return (
    <section className="mt-5">
      <div className="mb-1 flex flex-wrap justify-between gap-x-4">
        <h2 className="font-bold">The two drives side by side</h2>
        <span className="text-[13px] text-ink-soft">
          {differ} of {lines.length} differ, marked ≠
        </span>
      </div>
      <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="The two drives side by side">
        <table className="w-full text-[13.5px]">
          <thead className="border-b border-line-strong text-left text-ink-soft">
            <tr>
              <td />
              <th scope="col" className="px-2 py-1.5 font-semibold">
                {source.drive.name}
              </th>
              <td />
              <th scope="col" className="px-2 py-1.5 font-semibold">
                {target.drive.name}
              </th>
            </tr>
          </thead>
          <tbody>
            {lines.map(({ name, a, b, mono }) => (
              <tr key={name} className="border-b border-line">
                <th scope="row" className="px-2 py-1 text-left font-normal text-ink-soft">
                  {name}
                </th>
                <td className={clsx('px-2 py-1', mono && 'font-mono')}>{a}</td>
                <td className="px-1 py-1 text-center font-bold text-ochre-ink">
                  {a !== b && <span aria-label="differs from">≠</span>}
                </td>
                <td className={clsx('px-2 py-1', mono && 'font-mono')}>{b}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  )
}
