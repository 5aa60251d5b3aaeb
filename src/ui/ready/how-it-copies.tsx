'use client'

import { formatDuration, formatSize, MIB } from '@/core/bytes/size'
import type { CopyChoices } from '@/core/copy/choices'
import { Choice } from '@/ui/shared/choice'

export interface HowView {
  readonly choices: CopyChoices
  /** What either way of reading takes, and what reading back adds. Bytes and bench seconds. */
  readonly usedBytes: number
  readonly everyBytes: number
  readonly copySeconds: { readonly used: number; readonly every: number }
  readonly checkSeconds: { readonly used: number; readonly every: number }
  readonly live: boolean
  readonly failing: boolean
  readonly candidates: readonly { readonly id: string; readonly name: string; readonly serial: string }[]
}

interface HowItCopiesProps {
  readonly how: HowView
  readonly busy: boolean
  readonly onChoose: (choices: Partial<CopyChoices>) => void
}

const LIMITS = [null, 5, 30, 120] as const
const TRIES = [1, 2, 5, 10]
const SNAPSHOTS = [256, 2048, 8192]

/** What is chosen of a copy before it starts, with what each choice costs. */
export function HowItCopies({ how, busy, onChoose }: HowItCopiesProps) {
  const { choices } = how
  const check = how.checkSeconds[choices.read]
  return (
    <section className="panel mt-4 p-4" aria-label="How it copies" data-testid="how-it-copies">
      <div className="mb-3 flex flex-wrap items-baseline justify-between gap-x-4">
        <h2 className="font-bold">How it copies</h2>
        <span className="text-[13px] text-ink-soft">
          about {formatDuration(how.copySeconds[choices.read] + (choices.verify ? check : 0))} in all
        </span>
      </div>
      <div className="grid gap-x-5 gap-y-3 sm:grid-cols-2">
        <Choice
          label="What is read"
          value={choices.read}
          disabled={busy}
          options={[
            ['used', `used blocks only, ${formatSize(how.usedBytes)}`],
            ['every', `every sector, ${formatSize(how.everyBytes)}`],
          ]}
          onChange={(read) => onChoose({ read: read as CopyChoices['read'] })}
        />
        <Choice
          label="When all is written"
          value={choices.verify ? 'verify' : 'trust'}
          disabled={busy}
          options={[
            ['verify', `read it back and compare, ${formatDuration(check)} more`],
            ['trust', 'leave it unread'],
          ]}
          onChange={(value) => onChoose({ verify: value === 'verify' })}
        />
        {how.live && (
          <Choice
            label="While it runs"
            value={String(choices.snapshotMib)}
            disabled={busy}
            options={[
              ...SNAPSHOTS.map(
                (mib) => [String(mib), `of one moment, a snapshot of up to ${formatSize(mib * MIB)}`] as const,
              ),
              ['null', 'as it is, and name what changed'],
            ]}
            onChange={(value) => onChoose({ snapshotMib: value === 'null' ? null : Number(value) })}
          />
        )}
        {how.failing && (
          <>
            <Choice
              label="Around what does not read"
              value={String(choices.rescueMinutes)}
              disabled={busy}
              options={LIMITS.map((minutes) => [
                String(minutes),
                minutes === null ? 'as long as it takes' : `${minutes} min at most`,
              ])}
              onChange={(value) => onChoose({ rescueMinutes: value === 'null' ? null : Number(value) })}
            />
            <Choice
              label="A sector that does not read"
              value={String(choices.tries)}
              disabled={busy}
              options={TRIES.map((n) => [String(n), n === 1 ? 'is tried once' : `is tried ${n} times`])}
              onChange={(value) => onChoose({ tries: Number(value) })}
            />
          </>
        )}
      </div>
      {(how.candidates.length > 0 || choices.further.length > 0) && (
        <fieldset className="mt-3">
          <legend className="mb-1 text-[13px] text-ink-soft">Also written in the same reading</legend>
          {how.candidates.map((drive) => (
            <label key={drive.id} className="flex items-center gap-2">
              <input
                type="checkbox"
                className="accent-[var(--ink)]"
                checked={choices.further.includes(drive.id)}
                disabled={busy}
                onChange={(event) =>
                  onChoose({
                    further: event.target.checked
                      ? [...choices.further, drive.id]
                      : choices.further.filter((id) => id !== drive.id),
                  })
                }
              />
              {drive.name} <span className="font-mono text-[12.5px] text-ink-soft">{drive.serial}</span>
            </label>
          ))}
        </fieldset>
      )}
    </section>
  )
}
