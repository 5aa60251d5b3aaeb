'use client'

import { formatRate } from '@/core/bytes/size'
import type { BorrowedView, BorrowingView } from '@/core/lent/view'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { Link } from '@/ui/frame/link'
import { Button } from '@/ui/shared/button'

interface BorrowedProps {
  readonly asked: readonly BorrowingView[]
  readonly borrowed: readonly BorrowedView[]
}

/** What other benches lend to this one, and what they were asked for. */
export function Borrowed({ asked, borrowed }: BorrowedProps) {
  if (asked.length + borrowed.length === 0) return null
  return (
    <section className="mt-6">
      <h2 className="mb-2 text-[17px] font-bold">From other benches</h2>
      <ul className="panel divide-y divide-line" data-testid="borrowed">
        {asked.map((one) => (
          <AskedFor key={one.id} asked={one} />
        ))}
        {borrowed.map((one) => (
          <Drive key={one.driveId} drive={one} />
        ))}
      </ul>
    </section>
  )
}

const ASKED: Record<BorrowingView['state'], string> = {
  connects: 'Connecting…',
  asked: 'Asked for. Whoever sits there has to say yes.',
  refused: '',
}

function AskedFor({ asked: { id, address, state, why } }: { asked: BorrowingView }) {
  const { act, busy } = useAct()
  const { endBorrowing } = useActions()
  return (
    <li className="flex flex-wrap items-center justify-between gap-3 px-[18px] py-3" data-testid={`asked-${state}`}>
      <p className="min-w-0">
        <span className="font-mono text-[13px] break-all">{address}</span>
        <span className={`block text-[13.5px] ${state === 'refused' ? 'text-vermilion' : 'text-ink-soft'}`}>
          {state === 'refused' ? why : ASKED[state]}
        </span>
      </p>
      <Button disabled={busy} onClick={() => void act(() => endBorrowing({ id }))}>
        {state === 'refused' ? 'Clear' : 'Ask no more'}
        <span className="sr-only">: {address}</span>
      </Button>
    </li>
  )
}

const STATE_WORDS: Record<BorrowedView['state'], string> = {
  'not asked': 'not asked for yet',
  asked: 'asked for; whoever sits there has to say yes',
  here: 'connected',
  away: 'no connection; it is taken up again by itself',
  refused: 'refused there, or taken back',
}

function Drive({ drive }: { drive: BorrowedView }) {
  const { driveId, name, bench, address, state, writable, bytesPerSecond, isThere } = drive
  const { act, busy } = useAct()
  const { askAgain, giveBack } = useActions()
  const facts = [
    STATE_WORDS[state],
    writable ? 'to be written over' : 'for reading',
    ...(bytesPerSecond === null ? [] : [`carries ${formatRate(bytesPerSecond)}`]),
  ]
  return (
    <li className="flex flex-wrap items-center justify-between gap-3 px-[18px] py-3" data-testid={`borrowed-${state}`}>
      <p className="min-w-0">
        <Link href={`/drives/${encodeURIComponent(driveId)}`} className="font-semibold underline underline-offset-2">
          {name}
        </Link>
        , {bench}
        {!isThere && ', in a hand of this bench'}
        <span className="block text-[13.5px] text-ink-soft">{facts.join('; ')}</span>
        <span className="block font-mono text-[12.5px] break-all text-ink-soft">{address}</span>
      </p>
      <span className="flex flex-wrap gap-2">
        {(state === 'not asked' || state === 'refused') && (
          <Button disabled={busy} onClick={() => void act(() => askAgain({ driveId }))}>
            Ask for it<span className="sr-only">: {name}</span>
          </Button>
        )}
        <Button disabled={busy} onClick={() => void act(() => giveBack({ driveId }))}>
          Give it back<span className="sr-only">: {name}</span>
        </Button>
      </span>
    </li>
  )
}
