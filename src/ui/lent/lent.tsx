'use client'

import { useState } from 'react'
import { formatSize } from '@/core/bytes/size'
import type { BorrowedView, BorrowingView, LentView, LoanView } from '@/core/lent/view'
import { PLATE_CHARACTERS } from '@/core/ready/plate-check'
import { counted } from '@/core/words'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { Link } from '@/ui/frame/link'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { ChoiceField } from '@/ui/shared/field'
import { PlateCheck } from '@/ui/shared/plate-check'
import { BorrowDialog } from '@/ui/shared/borrow-dialog'
import { Borrowed } from './borrowed'

export interface LentProps {
  readonly lent: readonly LentView[]
  /** What the page was opened for, where it is not lent yet. */
  readonly offered: Offered | null
  /** Addresses that can be listened at; the first is this computer's own. */
  readonly addresses: readonly { readonly address: string; readonly name: string }[]
  readonly asked: readonly BorrowingView[]
  readonly borrowed: readonly BorrowedView[]
}

interface Offered {
  readonly subject: { kind: 'drives' | 'images'; id: string }
  readonly name: string
  /** What is on the label of a drive, which is typed before it is lent to be written over. */
  readonly plate: { readonly model: string; readonly detail: string; readonly prefix: string } | null
  readonly partitions: readonly { readonly number: number; readonly title: string }[]
}

/** What is lent and borrowed over the network: who asks, who has it, and how it is reached. */
export function Lent({ lent, offered, addresses, asked, borrowed }: LentProps) {
  const { act, busy, go } = useAct()
  const { lend, askAgain } = useActions()
  const [address, setAddress] = useState(addresses[0].address)
  const [writable, setWritable] = useState(false)
  const [plate, setPlate] = useState('')
  const [partition, setPartition] = useState<number | null>(null)
  const [once, setOnce] = useState(false)
  const [isAsking, setAsking] = useState(false)
  const toAsk = borrowed.find((b) => b.state === 'not asked' && b.isThere)
  const asking = lent.flatMap((one) => one.loans.filter((l) => l.state === 'asks')).length
  const start = () =>
    void act(async () => {
      const answer = await lend({ subject: offered!.subject, address, writable, plate, partition, once })
      if (answer.ok) go('/lent')
      return answer
    })
  return (
    <Stage
      heading={headingOf({ asking, lent: lent.length, offered: offered?.name, asked, borrowed })}
      reason="Whoever asks for what is lent needs its code and a yes; a yes can be taken back."
      tools={<Button onClick={() => setAsking(true)}>Borrow a drive</Button>}
      aside={
        <AsideBlock title="How it is reached">
          <p className="text-[13.5px] text-ink-soft">
            By another bench, by the imbarco command, or by any program that speaks the protocol of network block
            devices with a shared key. Say the code, do not send it; the connection is encrypted by it.
          </p>
        </AsideBlock>
      }
      next={
        offered ? (
          <NextAction
            label={writable ? 'Lend it to be written over' : 'Lend it'}
            onAct={start}
            disabled={busy || (writable && plate.length < PLATE_CHARACTERS)}
            hint="It is listened for at this address until you stop it, or the server ends."
          />
        ) : toAsk ? (
          <NextAction
            label={`Ask for the ${toAsk.name}`}
            onAct={() => void act(() => askAgain({ driveId: toAsk.driveId }))}
            disabled={busy}
            hint={`Whoever sits at ${toAsk.bench} is asked, and says yes or no.`}
          />
        ) : undefined
      }
    >
      {offered && (
        <div className="panel mb-5 grid gap-4 p-[18px] sm:grid-cols-2">
          <ChoiceField label="Lent at" value={address} onChange={(event) => setAddress(event.target.value)}>
            {addresses.map((a) => (
              <option key={a.address} value={a.address}>
                {a.name === '' ? `${a.address}, this computer alone` : `${a.address}, ${a.name}`}
              </option>
            ))}
          </ChoiceField>
          {offered.plate && (
            <ChoiceField
              label="What for"
              value={writable ? 'write' : 'read'}
              onChange={(event) => setWritable(event.target.value === 'write')}
            >
              <option value="read">To be read</option>
              <option value="write">As a target, to be written over</option>
            </ChoiceField>
          )}
          {offered.partitions.length > 0 && (
            <ChoiceField
              label="How much of it"
              value={partition ?? ''}
              onChange={(event) => setPartition(event.target.value === '' ? null : Number(event.target.value))}
            >
              <option value="">All of it</option>
              {offered.partitions.map(({ number, title }) => (
                <option key={number} value={number}>
                  Partition {number}, {title}
                </option>
              ))}
            </ChoiceField>
          )}
          <ChoiceField
            label="Until"
            value={once ? 'once' : 'stopped'}
            onChange={(event) => setOnce(event.target.value === 'once')}
          >
            <option value="stopped">It is stopped here</option>
            <option value="once">The first one has what it wants</option>
          </ChoiceField>
          {offered.plate && writable && (
            <div className="sm:col-span-2">
              <p className="mb-2 text-[13.5px] text-ink-soft">
                Whoever borrows it can write over all that it holds. Read the serial number off the drive itself.
              </p>
              <PlateCheck {...offered.plate} value={plate} onChange={setPlate} />
            </div>
          )}
        </div>
      )}
      {lent.length + asked.length + borrowed.length === 0 && !offered && (
        <p className="text-ink-soft">
          A drive is lent from its own page on the{' '}
          <Link href="/bench" className="underline underline-offset-2">
            bench
          </Link>
          , an image from its page among the{' '}
          <Link href="/images" className="underline underline-offset-2">
            images
          </Link>
          . To borrow one that another bench lends, its address and its code are all you need.
        </p>
      )}
      <ul className="grid gap-4 empty:hidden" data-testid="lent">
        {lent.map((one) => (
          <Thing key={one.id} lent={one} />
        ))}
      </ul>
      <Borrowed asked={asked} borrowed={borrowed} />
      {isAsking && <BorrowDialog onClose={() => setAsking(false)} />}
    </Stage>
  )
}

interface Counts extends Pick<LentProps, 'asked' | 'borrowed'> {
  readonly asking: number
  readonly lent: number
  readonly offered: string | undefined
}

function headingOf({ asking, lent, offered, asked, borrowed }: Counts): string {
  if (asking > 0) return `${counted(asking, 'computer')} ${asking === 1 ? 'asks' : 'ask'} you`
  if (offered) return `Lend ${offered}`
  const waiting = asked.filter((a) => a.state !== 'refused').length + borrowed.filter((b) => b.state === 'asked').length
  if (waiting > 0) return `${counted(waiting, 'drive')} ${waiting === 1 ? 'waits' : 'wait'} for a yes elsewhere`
  const notAsked = borrowed.filter((b) => b.state === 'not asked').length
  if (lent > 0) return `${counted(lent, 'disk')} ${lent === 1 ? 'is' : 'are'} lent`
  if (notAsked > 0) return `${counted(notAsked, 'drive')} can be asked for`
  return borrowed.length === 0 ? 'Nothing is lent' : `${counted(borrowed.length, 'drive')} borrowed`
}

function Thing({ lent: { id, name, href, code, writable, uri, address, wrongKeys, loans } }: { lent: LentView }) {
  const { act, busy } = useAct()
  const { endLending } = useActions()
  return (
    <li className="panel" data-testid={`lent-${id}`}>
      <div className="flex flex-wrap items-start justify-between gap-x-8 gap-y-3 px-[18px] py-4">
        <div className="min-w-0">
          <h2 className="text-[17px] font-bold">
            <Link href={href} className="underline-offset-2 hover:underline">
              {name}
            </Link>
          </h2>
          <p className="text-[13.5px] text-ink-soft">
            {writable ? 'to be written over' : 'for reading'}, at {address}
          </p>
          <p className="mt-1 font-mono text-[13px] break-all text-ink-soft">{uri}</p>
        </div>
        <p>
          <span className="caption block">Code</span>
          <span className="font-mono text-[22px] font-bold tracking-[0.06em]" data-testid="code">
            {code}
          </span>
        </p>
      </div>
      <ul className="divide-y divide-line border-t border-line">
        {loans.map((loan) => (
          <Loan key={loan.peer} lent={id} loan={loan} />
        ))}
        {loans.length === 0 && <li className="px-[18px] py-3 text-ink-soft">Nobody has asked for it yet.</li>}
      </ul>
      <div className="flex flex-wrap items-center justify-between gap-3 border-t border-line px-[18px] py-3">
        <p className={wrongKeys > 0 ? 'text-vermilion' : 'text-ink-soft'}>
          {wrongKeys === 0
            ? 'Nobody has tried another code.'
            : `${counted(wrongKeys, 'try', 'tries')} with another code; each made the next one slower.`}
        </p>
        <Button disabled={busy} onClick={() => void act(() => endLending({ lent: id }))}>
          Stop lending it<span className="sr-only">: {name}</span>
        </Button>
      </div>
    </li>
  )
}

function Loan({ lent, loan: { peer, state, readBytes, writtenBytes } }: { lent: string; loan: LoanView }) {
  const { act, busy } = useAct()
  const { answerBorrower, takeLoanBack } = useActions()
  const answer = (yes: boolean) => void act(() => answerBorrower({ lent, peer, yes }))
  return (
    <li className="flex flex-wrap items-center justify-between gap-3 px-[18px] py-3" data-testid={`loan-${state}`}>
      <p>
        <span className="font-mono font-semibold">{peer}</span>
        <span className="block text-[13.5px] text-ink-soft">
          {state === 'asks'
            ? 'has the code and asks for it'
            : `${state}; ${formatSize(readBytes)} read${writtenBytes > 0 ? `, ${formatSize(writtenBytes)} written` : ''}`}
        </span>
      </p>
      {state === 'asks' ? (
        <span className="flex gap-2">
          <Button disabled={busy} onClick={() => answer(true)}>
            Say yes<span className="sr-only">: {peer}</span>
          </Button>
          <Button disabled={busy} onClick={() => answer(false)}>
            Refuse<span className="sr-only">: {peer}</span>
          </Button>
        </span>
      ) : (
        state === 'has it' && (
          <Button disabled={busy} onClick={() => void act(() => takeLoanBack({ lent, peer }))}>
            Take it back<span className="sr-only">: {peer}</span>
          </Button>
        )
      )}
    </li>
  )
}
