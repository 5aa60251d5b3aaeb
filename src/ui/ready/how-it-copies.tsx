'use client'

import { useState } from 'react'
import { formatDuration, formatSize, MIB } from '@/core/bytes/size'
import type { CopyChoices } from '@/core/copy/choices'
import { Choice } from '@/ui/shared/choice'
import { TickField } from '@/ui/shared/field'

export interface HowView {
  readonly choices: CopyChoices
  /** What each way of reading takes in bytes, and in bench seconds with what reading back adds. */
  readonly bytes: Readonly<Record<Way, number>>
  readonly seconds: Readonly<Record<Way, { readonly copy: number; readonly check: number }>>
  /** Volumes of which every sector can be taken, whatever their maps say. */
  readonly volumes: readonly {
    readonly number: number
    readonly title: string
    readonly usedBytes: number
    readonly everyBytes: number
  }[]
  readonly live: boolean
  readonly failing: boolean
  readonly candidates: readonly { readonly id: string; readonly name: string; readonly serial: string }[]
}

/** Used blocks, every sector of some volumes, every sector of all. */
type Way = 'used' | 'volumes' | 'every'

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
  const { choices, volumes } = how
  const [opened, setOpened] = useState(false)
  const some = choices.everyOf.some((n) => volumes.some((v) => v.number === n))
  const way: Way = choices.read === 'every' ? 'every' : opened || some ? 'volumes' : 'used'
  const { copy, check } = how.seconds[way]
  const choose = (next: Way) => {
    setOpened(next === 'volumes')
    onChoose({ read: next === 'every' ? 'every' : 'used', ...(next === 'used' ? { everyOf: [] } : {}) })
  }
  return (
    <section className="panel mt-4 p-4" aria-label="How it copies" data-testid="how-it-copies">
      <div className="mb-3 flex flex-wrap items-baseline justify-between gap-x-4">
        <h2 className="font-bold">How it copies</h2>
        <span className="text-[13px] text-ink-soft">
          about {formatDuration(copy + (choices.verify ? check : 0))} in all
        </span>
      </div>
      <div className="grid gap-x-5 gap-y-3 sm:grid-cols-2">
        <Choice
          label="What is read"
          value={way}
          disabled={busy}
          options={[
            ['used', `used blocks only, ${formatSize(how.bytes.used)}`],
            ...(volumes.length > 0 ? [['volumes', 'as said for each volume'] as const] : []),
            ['every', `every sector, ${formatSize(how.bytes.every)}`],
          ]}
          onChange={(next) => choose(next as Way)}
        />
        <Choice
          label="When all is written"
          value={choices.verify ? 'verify' : 'trust'}
          disabled={busy}
          options={[
            ['verify', `read it back and compare, ${formatDuration(check)} more`],
            ['trust', 'skip verification'],
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
              label="Around unreadable sectors"
              value={String(choices.rescueMinutes)}
              disabled={busy}
              options={LIMITS.map((minutes) => [
                String(minutes),
                minutes === null ? 'as long as it takes' : `${minutes} min at most`,
              ])}
              onChange={(value) => onChoose({ rescueMinutes: value === 'null' ? null : Number(value) })}
            />
            <Choice
              label="An unreadable sector"
              value={String(choices.tries)}
              disabled={busy}
              options={TRIES.map((n) => [String(n), n === 1 ? 'is tried once' : `is tried ${n} times`])}
              onChange={(value) => onChoose({ tries: Number(value) })}
            />
          </>
        )}
      </div>
      {way === 'volumes' && (
        <fieldset className="mt-3">
          <legend className="mb-1 text-[13px] text-ink-soft">
            Every sector of these, used blocks of the others: {formatSize(how.bytes.volumes)}
          </legend>
          {volumes.map((volume) => (
            <TickField
              key={volume.number}
              label={`${volume.title}, ${formatSize(volume.everyBytes)} instead of ${formatSize(volume.usedBytes)}`}
              checked={choices.everyOf.includes(volume.number)}
              disabled={busy}
              onChange={(event) =>
                onChoose({
                  everyOf: event.target.checked
                    ? [...choices.everyOf, volume.number]
                    : choices.everyOf.filter((n) => n !== volume.number),
                })
              }
            />
          ))}
        </fieldset>
      )}
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
