'use client'

import { useState } from 'react'
import { formatSize } from '@/core/bytes/size'
import type { LentView, LoanView } from '@/core/lent/view'
import { counted } from '@/core/words'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { Link } from '@/ui/frame/link'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { ChoiceField } from '@/ui/shared/field'

export interface LentProps {
  readonly lent: readonly LentView[]
  /** What the page was opened for, where it is not lent yet. */
  readonly offered: { readonly subject: { kind: 'drives' | 'images'; id: string }; readonly name: string } | null
  /** Addresses that can be listened at; the first is this computer's own. */
  readonly addresses: readonly { readonly address: string; readonly name: string }[]
}

/** What is lent over the network: who asks, who has it, and how it is reached. */
export function Lent({ lent, offered, addresses }: LentProps) {
  const { act, busy, go } = useAct()
  const { lend } = useActions()
  const [address, setAddress] = useState(addresses[0].address)
  const asking = lent.flatMap((one) => one.loans.filter((l) => l.state === 'asks').map((loan) => ({ one, loan })))
  const start = () =>
    void act(async () => {
      const answer = await lend({ subject: offered!.subject, address })
      if (answer.ok) go('/lent')
      return answer
    })
  return (
    <Stage
      heading={headingOf(asking.length, lent.length, offered?.name)}
      reason="What is lent is only read. Whoever asks needs the code and your yes; a yes can be taken back."
      aside={
        <AsideBlock title="How it is reached">
          <p className="text-[13.5px] text-ink-soft">
            By the imbarco command on another computer, or by any program that speaks the protocol of network block
            devices with a shared key. Say the code, do not send it; the connection is encrypted by it.
          </p>
        </AsideBlock>
      }
      next={
        offered ? (
          <NextAction
            label="Lend it"
            onAct={start}
            disabled={busy}
            hint="It is listened for at this address until you stop it, or the server ends."
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
        </div>
      )}
      {lent.length === 0 && !offered && (
        <p className="text-ink-soft">
          A drive is lent from its own page on the{' '}
          <Link href="/bench" className="underline underline-offset-2">
            bench
          </Link>
          , an image from its page among the{' '}
          <Link href="/images" className="underline underline-offset-2">
            images
          </Link>
          .
        </p>
      )}
      <ul className="grid gap-4" data-testid="lent">
        {lent.map((one) => (
          <Thing key={one.id} lent={one} />
        ))}
      </ul>
    </Stage>
  )
}

function headingOf(asking: number, lent: number, offered: string | undefined): string {
  if (asking > 0) return `${counted(asking, 'computer')} ${asking === 1 ? 'asks' : 'ask'} you`
  if (offered) return `Lend ${offered}`
  return lent === 0 ? 'Nothing is lent' : `${counted(lent, 'disk')} ${lent === 1 ? 'is' : 'are'} lent`
}

function Thing({ lent: { id, name, href, code, uri, address, wrongKeys, loans } }: { lent: LentView }) {
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
          <p className="text-[13.5px] text-ink-soft">for reading, at {address}</p>
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

function Loan({ lent, loan: { peer, state, readBytes } }: { lent: string; loan: LoanView }) {
  const { act, busy } = useAct()
  const { answerBorrower, takeLoanBack } = useActions()
  const answer = (yes: boolean) => void act(() => answerBorrower({ lent, peer, yes }))
  return (
    <li className="flex flex-wrap items-center justify-between gap-3 px-[18px] py-3" data-testid={`loan-${state}`}>
      <p>
        <span className="font-mono font-semibold">{peer}</span>
        <span className="block text-[13.5px] text-ink-soft">
          {state === 'asks' ? 'has the code and asks for it' : `${state}; ${formatSize(readBytes)} read`}
        </span>
      </p>
      {state === 'asks' ? (
        <span className="flex gap-2">
          <Button disabled={busy} onClick={() => answer(true)}>
            Let it read<span className="sr-only">: {peer}</span>
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
