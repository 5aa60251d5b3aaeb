'use client'

import { useState } from 'react'
import { clsx } from 'clsx'
import { formatCapacity } from '@/core/bytes/size'
import { copyShare } from '@/core/copy/progress'
import { PLATE_CHARACTERS } from '@/core/ready/plate-check'
import type { MemberState } from '@/core/series/series'
import { counted, upperFirst } from '@/core/words'
import { post, useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { useProgress } from '@/ui/frame/events'
import { Link } from '@/ui/frame/link'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { PlateCheck } from '@/ui/shared/plate-check'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { DepthProfile } from '@/ui/shared/depth-profile'
import { Facts } from '@/ui/shared/facts'

/** One computer of a series, with where it is. */
interface SeriesMember {
  readonly id: string
  readonly computer: string
  readonly model: string
  readonly target: string
  readonly serial: string
  readonly platePrefix: string
  readonly place: string
  readonly sizeBytes: number
  /** Share used of each equal stretch of what is written; empty before the source was read. */
  readonly profile: readonly number[]
  readonly handedOver: string
  readonly state: MemberState
  readonly says: string
  readonly step?: { readonly id: string; readonly title: string }
  readonly seen?: string
  readonly share?: number
}

interface SeriesProps {
  readonly id: string
  readonly name: string
  readonly customer: string
  /** What they are made from, as it goes into a sentence. */
  readonly from: string
  /** Names of systems on it that were not generalised. */
  readonly notGeneralised: readonly string[]
  readonly members: readonly SeriesMember[]
  readonly counts: Readonly<Record<'done' | 'runs' | 'waits' | 'asks' | 'aside', number>>
  readonly next: readonly SeriesMember[]
}

/** One system and a row of computers: what hands have to do next, and where each of them is. */
export function Series({ id, name, customer, from, notGeneralised, members, counts, next }: SeriesProps) {
  const { act, busy } = useAct()
  const { finishStep, startTrial, writeTogether } = useActions()
  const [plates, setPlates] = useState<Readonly<Record<string, string>>>({})
  const plateOf = (of: string) => plates[of] ?? ''
  const typed = next.filter((m) => m.state === 'plate' && plateOf(m.id).length === PLATE_CHARACTERS)
  const first = next.find((m) => m.step || m.state === 'start')
  const all = members.length
  const heading =
    counts.done + counts.aside === all
      ? `${counts.done} of ${counted(all, 'computer')} ${counts.done === 1 ? 'is' : 'are'} done`
      : counts.asks > 0
        ? `${counted(counts.asks, 'computer')} ${counts.asks === 1 ? 'needs' : 'need'} you`
        : 'Nothing needs your hands now'
  return (
    <Stage
      heading={heading}
      reason={`${name}, ${customer}: ${from} onto ${counted(all, 'computer')}, each with an identity of its own.`}
      tools={
        <>
          <a
            href={`/api/series/${id}/list`}
            className="rounded-md border border-line-strong bg-sheet px-3.5 py-2 font-semibold hover:bg-sunk"
          >
            List as CSV
          </a>
          <Button onClick={() => window.print()}>Print the list</Button>
        </>
      }
      aside={
        <AsideBlock title="The series">
          <Facts
            facts={[
              { name: 'Done', value: `${counts.done} of ${all}` },
              { name: 'Running', value: counts.runs },
              { name: 'Waiting for a bay', value: counts.waits },
              { name: 'Set aside', value: counts.aside },
            ]}
          />
        </AsideBlock>
      }
      next={
        first?.step ? (
          <NextAction
            label={`${first.step.title}: done`}
            disabled={busy}
            hint={`For the ${first.computer}.`}
            onAct={() => void act(() => finishStep(first.id, first.step!.id))}
          />
        ) : first?.state === 'start' ? (
          <NextAction
            label={`Start the ${first.computer}`}
            disabled={busy}
            onAct={() => void act(() => startTrial(first.id))}
          />
        ) : undefined
      }
    >
      {notGeneralised.length > 0 && (
        <div className="mb-4">
          <Callout>
            {notGeneralised.join(' and ')} on it {notGeneralised.length === 1 ? 'was' : 'were'} not generalised: every
            computer gets the same name, accounts and address. Do not have two of them on one network before that is
            changed.
          </Callout>
        </div>
      )}
      {next.length > 0 && (
        <section className="no-print mb-5">
          <h2 className="caption mb-2">For your hands</h2>
          <ul className="panel divide-y divide-line" data-testid="for-hands">
            {next.map((member) => (
              <Asked
                key={member.id}
                member={member}
                series={id}
                plate={plateOf(member.id)}
                onPlate={(plate) => setPlates((now) => ({ ...now, [member.id]: plate }))}
              />
            ))}
          </ul>
          {typed.length > 1 && (
            <div className="mt-3 flex flex-wrap items-center gap-x-4 gap-y-2">
              <Button
                tone="erases"
                disabled={busy}
                onClick={() =>
                  void act(() =>
                    writeTogether({
                      series: id,
                      members: typed.map((m) => ({ move: m.id, plate: plateOf(m.id), seen: m.seen ?? '' })),
                    }),
                  )
                }
              >
                Erase and write these {typed.length} together
              </Button>
              <p className="text-[13.5px] text-ink-soft">What they are made from is then read once for all of them.</p>
            </div>
          )}
        </section>
      )}
      <h2 className="caption mb-2">Every computer</h2>
      <ul className="panel divide-y divide-line" data-testid="members">
        {members.map((member) => (
          <Row key={member.id} member={member} />
        ))}
      </ul>
    </Stage>
  )
}

interface AskedProps {
  readonly member: SeriesMember
  readonly series: string
  /** What was typed of its drive's plate. */
  readonly plate: string
  readonly onPlate: (plate: string) => void
}

/** A computer that somebody has to do something for. */
function Asked({ member, series, plate, onPlate }: AskedProps) {
  const { act, busy } = useAct()
  const { finishStep, startTrial, setAside, prepareAgain } = useActions()
  const { id, computer, state, says, step } = member
  return (
    <li
      className="flex flex-wrap items-center justify-between gap-x-6 gap-y-2 px-[18px] py-3"
      data-testid={`asks-${id}`}
    >
      <p className="min-w-0 flex-1 basis-64">
        <span className="font-bold">{upperFirst(computer)}</span>
        <span className={clsx('block', state === 'failed' || state === 'trouble' ? 'text-vermilion' : 'text-ink-soft')}>
          {says}
        </span>
      </p>
      {state === 'hands' && (
        <Button disabled={busy} onClick={() => void act(() => finishStep(id, step!.id))}>
          Done<span className="sr-only">: {step!.title}</span>
        </Button>
      )}
      {state === 'plate' && <ByPlate member={member} plate={plate} onPlate={onPlate} />}
      {state === 'start' && (
        <Button disabled={busy} onClick={() => void act(() => startTrial(id))}>
          Start it<span className="sr-only">: {computer}</span>
        </Button>
      )}
      {state === 'failed' && (
        <span className="flex gap-2">
          <Open href={`/moves/${id}/copy`}>Its copy</Open>
          <Button disabled={busy} onClick={() => void act(() => setAside({ series, move: id }))}>
            Set it aside<span className="sr-only">: {computer}</span>
          </Button>
        </span>
      )}
      {state === 'trouble' && (
        <span className="flex gap-2">
          <Open href={`/moves/${id}`}>Open it</Open>
          <Button disabled={busy} onClick={() => void act(() => prepareAgain({ series, move: id }))}>
            Try again<span className="sr-only">: {computer}</span>
          </Button>
        </span>
      )}
      {state === 'settle' && <Open href={`/moves/${id}`}>Settle it</Open>}
      {state === 'hand-over' && <Open href={`/moves/${id}/handover`}>Hand it over</Open>}
    </li>
  )
}

function Open({ href, children }: { href: string; children: string }) {
  return (
    <Link href={href} className="rounded-md border border-line-strong bg-sheet px-3.5 py-2 font-semibold hover:bg-sunk">
      {children}
    </Link>
  )
}

/** A drive is written once the end of its own serial was typed. */
function ByPlate({ member, plate, onPlate }: Omit<AskedProps, 'series'>) {
  const { act, busy } = useAct()
  const { id, target, sizeBytes, place, platePrefix, seen } = member
  const complete = plate.length === PLATE_CHARACTERS
  const start = () => void act(() => post(`/api/moves/${id}/copy`, { plate, seen }))
  return (
    <form
      className="flex flex-wrap items-center gap-3"
      onSubmit={(event) => {
        event.preventDefault()
        if (complete && !busy) start()
      }}
    >
      <PlateCheck
        model={target}
        detail={`${formatCapacity(sizeBytes)}, ${place}`}
        prefix={platePrefix}
        value={plate}
        onChange={onPlate}
      />
      <Button type="submit" tone="erases" disabled={!complete || busy}>
        Erase and write it<span className="sr-only">: {target}</span>
      </Button>
    </form>
  )
}

const WORDS: Record<MemberState, string> = {
  prepares: 'is prepared',
  waits: 'waits for a bay',
  hands: 'needs hands',
  settle: 'needs an answer',
  plate: 'needs its plate',
  copies: 'is written',
  failed: 'failed',
  start: 'to be started',
  'hand-over': 'to be handed over',
  done: 'done',
  aside: 'set aside',
  trouble: 'could not be prepared',
}

function Row({ member }: { member: SeriesMember }) {
  const { id, computer, model, target, serial, place, profile, sizeBytes, state, says, handedOver } = member
  const [live, setLive] = useState<number>()
  useProgress((moveId, progress) => {
    if (moveId === id) setLive(copyShare(progress))
  })
  const written = ['start', 'hand-over', 'done'].includes(state)
    ? 1
    : state === 'copies'
      ? (live ?? member.share ?? 0)
      : 0
  return (
    <li
      className="grid items-center gap-x-5 gap-y-2 px-[18px] py-3 md:grid-cols-[minmax(0,1fr)_minmax(0,1.2fr)_minmax(120px,0.9fr)_minmax(0,1.2fr)]"
      data-testid={`member-${id}`}
      data-state={state}
    >
      <p>
        <Link href={`/moves/${id}`} className="text-[15px] font-bold underline-offset-2 hover:underline">
          {upperFirst(computer)}
        </Link>
        <span className="block text-[13px] text-ink-soft">{model}</span>
      </p>
      <p>
        {target}
        <span className="block font-mono text-[13px] text-ink-soft">s/n {serial}</span>
        <span className="block text-[13px] text-ink-soft">{place}</span>
      </p>
      {profile.length > 0 ? (
        <DepthProfile
          bare
          profile={profile}
          sizeBytes={sizeBytes}
          doneBytes={written * sizeBytes}
          label={`${Math.round(written * 100)} % of the ${target} is written`}
        />
      ) : (
        <span />
      )}
      <p className="text-[13.5px]">
        <span
          className={clsx(
            'block font-semibold',
            state === 'done' && 'text-weed',
            (state === 'copies' || state === 'prepares') && 'text-sea-4',
            (state === 'failed' || state === 'trouble' || state === 'aside') && 'text-vermilion',
            ['hands', 'settle', 'plate', 'start', 'hand-over'].includes(state) && 'text-magenta',
            state === 'waits' && 'text-ink-soft',
          )}
        >
          {upperFirst(WORDS[state])}
          {state === 'copies' && <span className="font-mono"> {Math.round(written * 100)} %</span>}
        </span>
        {!['copies', 'prepares', 'waits', 'hands', 'plate'].includes(state) && (
          <span className="block text-ink-soft">{state === 'done' ? handedOver : says}</span>
        )}
      </p>
    </li>
  )
}
