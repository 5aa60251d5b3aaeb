'use client'

import { Link } from '@/ui/frame/link'
import dynamic from 'next/dynamic'
import { CircleCheck, CircleX } from 'lucide-react'
import { formatSize } from '@/core/bytes/size'
import type { Speed } from '@/core/intake/speed'
import type { ProofCheck } from '@/core/proof/compare'
import { Button } from '@/ui/shared/button'

// What draws charts is large, and few pages have one.
const SpeedBars = dynamic(() => import('./speed-bars').then((module) => module.SpeedBars), { ssr: false })

export interface AfterView {
  readonly speeds: readonly {
    readonly source: string
    readonly target: string
    readonly before?: Speed
    readonly after: Speed
  }[]
  /** What Ready turned off and is still off. */
  readonly off: readonly { readonly id: string; readonly title: string; readonly detail: string }[]
  readonly turnedOff: number
  /** Repairs that are not needed for the start. */
  readonly tidying: readonly { readonly name: string; readonly title: string; readonly changes: readonly string[] }[]
  /** Room behind a volume that nothing has. */
  readonly room: { readonly bytes: number; readonly into: string } | undefined
}

interface AfterProps {
  readonly checks: readonly ProofCheck[]
  readonly after: AfterView
  readonly busy: boolean
  readonly onTurnOn: (id: string) => void
  readonly onRepair: (name: string) => void
}

/** What was looked at once it had started, and what is still to be done. */
export function After({ checks, after, busy, onTurnOn, onRepair }: AfterProps) {
  const left = after.off.length > 0 || after.room !== undefined || after.tidying.length > 0
  return (
    <>
      <section className="mt-4">
        <h2 className="mb-2 font-bold">After it started</h2>
        <ul className="panel divide-y divide-line" data-testid="proof-checks">
          {checks.map((check) => (
            <li key={check.id} className="flex items-center gap-3 px-[18px] py-2.5">
              {check.passed ? (
                <CircleCheck size={18} className="shrink-0 text-weed" aria-label="Passed" />
              ) : (
                <CircleX size={18} className="shrink-0 text-vermilion" aria-label="Failed" />
              )}
              <span className="font-semibold">{check.title}</span>
              <span className="ml-auto text-right font-mono text-[13px] text-ink-soft">{check.found}</span>
            </li>
          ))}
        </ul>
      </section>
      {after.speeds.some((s) => s.before) && <Speeds speeds={after.speeds} />}
      {(left || after.turnedOff > 0) && (
        <section className="mt-4" data-testid="to-do">
          <h2 className="mb-2 font-bold">{left ? 'Still to do' : 'Nothing is left to do'}</h2>
          <ul className="panel divide-y divide-line">
            {after.off.map((item) => (
              <li key={item.id} className="flex flex-wrap items-center gap-x-3 gap-y-1 px-[18px] py-2.5">
                <span className="font-semibold">{item.title}</span>
                <span className="text-ink-soft">{item.detail}</span>
                <span className="ml-auto">
                  <Button small disabled={busy} onClick={() => onTurnOn(item.id)}>
                    Turn on again
                  </Button>
                </span>
              </li>
            ))}
            {after.off.length === 0 && after.turnedOff > 0 && (
              <li className="flex items-center gap-3 px-[18px] py-2.5">
                <CircleCheck size={18} className="shrink-0 text-weed" aria-label="Passed" />
                <span className="font-semibold">Everything that was turned off for the copy is on again</span>
              </li>
            )}
            {after.room && (
              <li className="flex flex-wrap items-center gap-x-3 gap-y-1 px-[18px] py-2.5">
                <span className="font-semibold">{formatSize(after.room.bytes)} are unallocated</span>
                <span className="text-ink-soft">
                  right behind {after.room.into}, which can have them; no file moves
                </span>
                <span className="ml-auto">
                  <Button small disabled={busy} onClick={() => onRepair('take-up-room')}>
                    Take it up
                  </Button>
                </span>
              </li>
            )}
            {after.tidying.map(({ name, title, changes }) => (
              <li key={name} className="flex flex-wrap items-center gap-x-3 gap-y-1 px-[18px] py-2.5">
                <span className="min-w-0 flex-1 basis-80">
                  <span className="font-semibold">{title}</span>
                  {changes.map((change) => (
                    <span key={change} className="block text-[13px] break-words text-ink-soft">
                      {change}
                    </span>
                  ))}
                </span>
                <Button small disabled={busy} onClick={() => onRepair(name)}>
                  Do it
                  <span className="sr-only">: {title}</span>
                </Button>
              </li>
            ))}
          </ul>
        </section>
      )}
    </>
  )
}

/** The new drive's speed beside the old one's, both measured the same way. */
export function Speeds({ speeds }: { speeds: AfterView['speeds'] }) {
  return (
    <section className="mt-4" data-testid="speeds">
      <h2 className="mb-2 font-bold">Speed before and now</h2>
      <div className="panel px-[18px] py-3">
        {speeds.map(({ source, target, before, after }) =>
          before ? (
            <div key={target} className="grid gap-x-8 gap-y-3 sm:grid-cols-2">
              <Compared
                title="Sequential reads"
                unit="MB/s"
                before={before.sequentialBytesPerSecond / 1e6}
                after={after.sequentialBytesPerSecond / 1e6}
                names={[source, target]}
              />
              <Compared
                title="Random reads"
                unit="reads/s"
                before={before.randomReadsPerSecond}
                after={after.randomReadsPerSecond}
                names={[source, target]}
              />
            </div>
          ) : null,
        )}
        <p className="mt-2 text-[13px] text-ink-soft">
          Measured alike: at Intake over {speeds[0].before?.over}, now over {speeds[0].after.over}.
        </p>
      </div>
    </section>
  )
}

interface ComparedProps {
  readonly title: string
  readonly unit: string
  readonly before: number
  readonly after: number
  readonly names: readonly [string, string]
}

function Compared({ title, unit, before, after, names }: ComparedProps) {
  const [was, is] = [Math.round(before), Math.round(after)]
  const times = before > 0 ? after / before : 0
  return (
    <figure>
      <figcaption className="flex items-baseline justify-between gap-3">
        <span className="font-semibold">{title}</span>
        <span className="font-mono text-[13px] text-ink-soft">{times > 0 ? `× ${times.toFixed(1)}` : ''}</span>
      </figcaption>
      <div role="img" aria-label={`${title}: ${names[0]} ${was}, ${names[1]} ${is} ${unit}`} className="h-[84px]">
        <SpeedBars before={was} now={is} unit={unit} />
      </div>
    </figure>
  )
}

/** The lines of a computer's boot menu; one can be chosen for the next start only. */
export function BootMenu({
  computerId,
  menu,
  chosen,
  onChoose,
}: {
  computerId: string
  menu: readonly { readonly id: string; readonly title: string; readonly detail: string; readonly here: boolean }[]
  chosen: string | undefined
  onChoose: (id: string | undefined) => void
}) {
  const lines = [{ id: undefined, title: 'As the firmware decides', detail: '', here: true }, ...menu]
  return (
    <fieldset data-testid="boot-menu">
      <legend className="sr-only">What the next start is by</legend>
      <ul className="space-y-1.5">
        {lines.map((line) => (
          <li key={line.id ?? 'firmware'}>
            <label className="flex gap-2">
              <input
                type="radio"
                name="boot-choice"
                className="mt-1 accent-magenta"
                checked={chosen === line.id}
                onChange={() => onChoose(line.id)}
              />
              <span className={line.here ? '' : 'text-ink-soft'}>
                {line.title}
                {line.detail && <span className="block text-[12.5px] break-words text-ink-soft">{line.detail}</span>}
              </span>
            </label>
          </li>
        ))}
      </ul>
      <Link
        href={`/computers/${computerId}`}
        className="mt-2 inline-block font-semibold text-sea-4 underline underline-offset-2"
      >
        Firmware settings
      </Link>
    </fieldset>
  )
}
