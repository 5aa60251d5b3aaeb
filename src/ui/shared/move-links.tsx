import { Link } from '@/ui/frame/link'
import type { DriveUse } from '@/core/move/drive-use'

/** The moves that a drive is part of, each a way into it. */
export function MoveLinks({ uses }: { uses: readonly DriveUse[] }) {
  if (uses.length === 0) return null
  return (
    <p className="mt-2 text-[13px] text-ink-soft">
      Part of:{' '}
      {uses.map(({ moveId, title, as }, i) => (
        <span key={`${moveId} ${as}`}>
          {i > 0 && '; '}
          <Link href={`/moves/${moveId}`} className="underline underline-offset-2">
            {title}
          </Link>{' '}
          ({as})
        </span>
      ))}
      .
    </p>
  )
}
