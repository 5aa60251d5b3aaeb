'use client'

import { formatSize, MIB } from '@/core/bytes/size'
import type { FitWish, Layout, Scheme } from '@/core/fit/types'
import type { DriveSurvey } from '@/core/survey/types'
import { Choice } from '@/ui/shared/choice'

const ALIGNMENTS = [4096, 64 * 1024, MIB, 4 * MIB, 16 * MIB]
const RESERVES = [0, 0.05, 0.1, 0.2]
const SCHEMES: Record<Scheme, string> = { gpt: 'GPT', mbr: 'MBR' }

interface FitOptionsProps {
  readonly survey: DriveSurvey
  readonly wish: FitWish
  readonly layout?: Layout
  readonly locked: boolean
  /** Nothing of the target may have an identity of the source. */
  readonly ownIdentity: boolean
  readonly onWish: (wish: FitWish) => void
}

/** What is seldom asked for: the table, where partitions may start, identities, a reserve. */
export function FitOptions({ survey, wish, layout, locked, ownIdentity, onWish }: FitOptionsProps) {
  const scheme = wish.scheme ?? (survey.scheme === 'mbr' ? 'mbr' : 'gpt')
  const identity = wish.identity?.of ?? 'kept'
  return (
    <details className="mt-5 border-t border-line pt-3" open={Boolean(wish.scheme || wish.identity || wish.renumber)}>
      <summary className="cursor-pointer font-semibold">Table, places and identity</summary>
      <div className="mt-3 grid gap-x-6 gap-y-3 sm:grid-cols-2 xl:grid-cols-3">
        <Choice
          label="Partition table"
          value={scheme}
          disabled={locked}
          options={(['gpt', 'mbr'] as const).map((s) => [
            s,
            s === survey.scheme ? `${SCHEMES[s]}, as it is` : SCHEMES[s],
          ])}
          onChange={(s) => onWish({ ...wish, scheme: s === survey.scheme ? undefined : (s as Scheme) })}
        />
        <Choice
          label="Identity of the target"
          value={identity}
          disabled={locked || ownIdentity}
          options={[
            ['kept', 'the same, as boot settings need it'],
            ['disk', 'a new one for the drive'],
            ['all', 'new ones for the drive and all on it'],
          ]}
          onChange={(of) =>
            onWish({
              ...wish,
              identity: of === 'kept' ? undefined : { of: of as 'disk' | 'all', seed: crypto.randomUUID() },
            })
          }
        />
        <Choice
          label="Partition numbers"
          value={wish.renumber ? 'anew' : 'kept'}
          disabled={locked}
          options={[
            ['kept', 'the same'],
            ['anew', 'in the order of their places'],
          ]}
          onChange={(v) => onWish({ ...wish, renumber: v === 'anew' ? true : undefined })}
        />
        <Choice
          label="Every start at a multiple of"
          value={String(wish.alignBytes ?? MIB)}
          disabled={locked}
          options={ALIGNMENTS.map((bytes) => [String(bytes), formatSize(bytes)])}
          onChange={(v) => onWish({ ...wish, alignBytes: Number(v) === MIB ? undefined : Number(v) })}
        />
        <Choice
          label="Leave unallocated"
          value={String(wish.reserve)}
          disabled={locked}
          options={RESERVES.map((share) => [
            String(share),
            share === 0 ? 'nothing' : `${share * 100} % of the drive, as a reserve`,
          ])}
          onChange={(v) => onWish({ ...wish, reserve: Number(v) })}
        />
      </div>
      {layout && layout.changes.length > 0 && (
        <ul className="mt-4 list-disc space-y-1 pl-5 text-[13.5px]" aria-label="What becomes another">
          {layout.changes.map((change) => (
            <li key={`${change.partition} ${change.what}`} className="break-words">
              {change.sentence}
            </li>
          ))}
        </ul>
      )}
    </details>
  )
}
