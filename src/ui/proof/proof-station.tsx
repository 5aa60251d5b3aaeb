'use client'

import { useState } from 'react'
import { Check } from 'lucide-react'
import { LINK_TITLES, TRACE_LINKS, type TraceLink } from '@/core/boot/types'
import type { ProofCheck } from '@/core/proof/compare'
import type { FirstStartStep } from '@/core/vm/first-start'
import { counted } from '@/core/words'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { Link } from '@/ui/frame/link'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button } from '@/ui/shared/button'
import { Callout } from '@/ui/shared/callout'
import { Plate, type PlateDrive } from '@/ui/shared/plate'
import { After, type AfterView, BootMenu } from './after'
import { Chain } from './chain'
import { FirstStart, type MachineView } from './first-start'
import { Made, Offered } from './repairs'

interface ProofView {
  readonly trial?: {
    readonly number: number
    readonly time: string
    readonly drive: string
    readonly subject: 'source' | 'target' | 'none'
    readonly trace: { readonly links: readonly TraceLink[]; readonly starts: boolean }
    readonly checks: readonly ProofCheck[]
    /** Of a real computer: what a person saw it do, and when they said so. */
    readonly told?: { readonly starts: boolean }
    readonly toldTime: string | null
  }
  /** What the computer starts by. */
  /** One system of a drive moves, and both drives stay in use. */
  readonly alone: boolean
  /** The old drive stays in beside the new one. */
  readonly stays: boolean
  readonly mode: 'uefi' | 'bios'
  /** The id of the new drive, where it can be started in an emulated computer on this host. */
  readonly emulated: string | null
  /** A real computer, whose start a person sees; `here`: the new drive is plugged in here, so that it can be followed. */
  readonly real: { readonly here: boolean } | null
  /** A repair was made after the last trial. */
  readonly repaired: boolean
  /** Other drives are in it than at the last trial. */
  readonly rearranged: boolean
  /** Repairs that are known for where it stopped, and not made yet. */
  readonly offered: readonly {
    readonly name: string
    readonly title: string
    readonly changes: readonly string[]
    readonly why: string | null
  }[]
  readonly repairs: readonly {
    readonly id: string
    readonly time: string
    readonly title: string
    readonly changes: readonly string[]
    readonly undone: boolean
  }[]
  readonly swapped: boolean
  readonly menu: readonly {
    readonly id: string
    readonly title: string
    readonly detail: string
    readonly here: boolean
  }[]
  readonly after: AfterView | null
  /** Of a move into a virtual machine: its first start, step by step. */
  readonly firstStart: readonly FirstStartStep[] | null
  readonly machine: MachineView | null
  /** The first step of closing the case, which waited for this start. */
  readonly closing: string | null
  readonly wayBack: { readonly steps: readonly { readonly title: string; readonly done: boolean }[] } | null
  readonly computer: { readonly id: string; readonly name: string; readonly running: string; readonly mains: boolean }
  readonly inComputer: readonly { readonly slot: string; readonly which: 'source' | 'target' | 'other' | 'none' }[]
  readonly source: PlateDrive
  /** Undefined of a virtual disk that is not written yet. */
  readonly target: PlateDrive | undefined
}

/** Does it start, and is it all there? */
export function ProofStation({ moveId, view }: { moveId: string; view: ProofView }) {
  const { act, go, busy } = useAct()
  const { startTrial, tellStart, makeRepair, takeRepairBack, turnOn, goBack, giveUpMove, takeFirstStartStep } =
    useActions()
  const [choice, setChoice] = useState<string>()
  const { trial, computer, source, target } = view
  const start = () => void act(() => startTrial(moveId, choice))
  const tell = (starts: boolean) => void act(() => tellStart(moveId, { starts }))
  /** Followed as far as it can be from here; what is left is what the person sees. */
  const isFollowed = trial?.subject === 'target'
  const isSaid = view.real !== null && view.swapped && (isFollowed || !view.real.here)
  const passed =
    trial !== undefined &&
    (view.real ? trial.told?.starts === true : trial.trace.starts) &&
    trial.subject === 'target' &&
    trial.checks.every((check) => check.passed) &&
    !view.repaired &&
    !view.rearranged
  // It was tried with the new drive, and starts from the old one as before.
  const isBack = trial?.trace.starts && trial.subject === 'source' && trial.number > 1 && !view.rearranged
  const takeStep = (id: FirstStartStep['id']) => {
    if (id === 'devices') return void act(() => makeRepair(moveId, 'old-devices'))
    if (id === 'power-off') return void act(() => takeFirstStartStep(moveId, { step: id }))
    if (id === 'network')
      return void act(() => takeFirstStartStep(moveId, { step: id, vlan: view.machine?.vlan ?? null }))
    start()
  }
  const words = wordsOf(view)
  // An identity of its own is only for who wants both drives in; what mends the start is to take one out.
  const repair = view.offered.find((r) => r.why === null && r.name !== 'disk-identity')
  const present = view.inComputer.filter((slot) => slot.which === 'source' || (slot.which === 'target' && target))
  const both = present.some((s) => s.which === 'source') && (!target || present.some((s) => s.which === 'target'))
  // The steps before it can be handed over; what may stay as it is does not hold it up.
  const openStep = view.firstStart?.find((s) => s.state === 'open' && !s.optional)
  return (
    <Stage
      heading={words.heading}
      reason={words.reason}
      tools={
        view.real ? (
          <RealTools
            told={trial?.told !== undefined}
            here={view.real.here}
            isSaid={isSaid}
            isFollowed={isFollowed}
            busy={busy}
            onStart={start}
            onTell={tell}
          />
        ) : passed ? (
          <Button onClick={start} disabled={busy}>
            Try again from power-on
          </Button>
        ) : isBack ? (
          <Button
            onClick={() => void act(() => giveUpMove(moveId, { why: 'the old drive is in again' }), '/')}
            disabled={busy}
          >
            Close the move without the new drive
          </Button>
        ) : undefined
      }
      aside={
        <>
          <AsideBlock title="In the computer now">
            <div className="space-y-3">
              {present.map(({ slot, which }) => (
                <Plate
                  key={slot}
                  drive={which === 'source' ? source : target!}
                  role={`${view.alone ? (which === 'source' ? 'Source' : 'Target') : which === 'source' ? 'Old drive' : 'New drive'}, ${slot}`}
                />
              ))}
              {present.length === 0 && <p className="text-ink-soft">Neither of the two drives.</p>}
            </div>
          </AsideBlock>
          {!both && (
            <AsideBlock title="Outside">
              <div className="space-y-3">
                {!present.some((s) => s.which === 'source') && (
                  <Plate
                    drive={source}
                    role={view.alone ? 'Source, stays in use' : 'Old drive'}
                    note={
                      view.alone || view.stays
                        ? undefined
                        : `${source.place}; keep apart, it carries the same disk identity`
                    }
                  />
                )}
                {target && !present.some((s) => s.which === 'target') && (
                  <Plate drive={target} role={view.alone ? 'Target' : 'New drive'} />
                )}
              </div>
            </AsideBlock>
          )}
          {trial && !passed && view.wayBack && (!view.real || view.swapped) && (
            <WayBack wayBack={view.wayBack} busy={busy} onStep={() => void act(() => goBack(moveId))} />
          )}
          {!passed && (
            <AsideBlock title="Boot menu">
              <BootMenu computerId={computer.id} menu={view.menu} chosen={choice} onChoose={setChoice} />
            </AsideBlock>
          )}
          {view.emulated !== null && (
            <p className="mb-3">
              <Link
                href={`/drives/${encodeURIComponent(view.emulated)}/start`}
                className="font-semibold text-sea-4 underline underline-offset-2"
              >
                See it start in an emulated computer
              </Link>
            </p>
          )}
          <p className="text-[13px] text-ink-soft">
            The {computer.name} is {computer.running}
            {view.machine ? '' : `, mains ${computer.mains ? 'in' : 'out'}`}.
          </p>
        </>
      }
      next={
        passed && view.after && view.after.off.length > 0 ? (
          <NextAction
            label={
              view.after.off.length === 1 ? `Turn on again: ${view.after.off[0].title}` : 'Turn everything on again'
            }
            onAct={() => void act(() => turnOn(moveId))}
            disabled={busy}
            hint="It was turned off for the copy, as Ready promised for after it."
          />
        ) : passed && view.closing ? (
          <NextAction
            label="Close the case"
            onAct={() => go(`/moves/${moveId}/swap`)}
            disabled={busy}
            hint="It has started, so the case can be closed."
          />
        ) : passed && openStep ? (
          <NextAction
            label={NEXT_OF_STEP[openStep.id] ?? openStep.title}
            onAct={() => takeStep(openStep.id)}
            disabled={busy}
            hint={openStep.id === 'devices' ? 'In its registry only, and it can be undone.' : openStep.found}
          />
        ) : passed ? (
          <NextAction label="Continue to Handover" onAct={() => go(`/moves/${moveId}/handover`)} disabled={busy} />
        ) : repair ? (
          <NextAction
            label={repair.title}
            onAct={() => void act(() => makeRepair(moveId, repair.name))}
            disabled={busy}
            hint={
              repair.name === 'boot-entry'
                ? 'In the computer’s firmware, and it can be undone.'
                : 'On the new drive only, and it can be undone.'
            }
          />
        ) : isSaid ? (
          <NextAction
            label="It started from the new drive"
            onAct={() => tell(true)}
            disabled={busy}
            hint={`Said by whoever stands before the ${computer.name}.`}
          />
        ) : view.real && (isFollowed || !view.real.here) ? (
          <NextAction label="Continue to Swap" onAct={() => go(`/moves/${moveId}/swap`)} disabled={busy} />
        ) : view.real ? (
          <NextAction
            label="Follow the start on its bytes"
            onAct={start}
            disabled={busy}
            hint="As it would go there; nothing is written."
          />
        ) : (
          <NextAction
            label={trial ? 'Try again from power-on' : `Start the ${computer.name}`}
            onAct={start}
            disabled={busy}
          />
        )
      }
    >
      {!view.stays && !view.swapped && present.some((s) => s.which === 'source') && (
        <div className="mb-4">
          <Callout>The old drive is still in the {computer.name}: a start now says nothing about the new one.</Callout>
        </div>
      )}
      {view.firstStart && view.machine && (
        <FirstStart
          steps={view.firstStart}
          machine={view.machine}
          busy={busy}
          onStep={(input) => void act(() => takeFirstStartStep(moveId, input))}
          onRepair={(name) => void act(() => makeRepair(moveId, name))}
        />
      )}
      {trial ? <Chain links={trial.trace.links} /> : <NoTrial name={computer.name} mode={view.mode} />}
      <Offered
        heading={trial ? undefined : 'Before the first start'}
        repairs={view.offered}
        first={repair?.name}
        busy={busy}
        onRepair={(name) => void act(() => makeRepair(moveId, name))}
      />
      <Made repairs={view.repairs} busy={busy} onTakeBack={() => void act(() => takeRepairBack(moveId))} />
      {trial && view.after && (
        <After
          checks={trial.checks}
          after={view.after}
          busy={busy}
          onTurnOn={(id) => void act(() => turnOn(moveId, id))}
          onRepair={(name) => void act(() => makeRepair(moveId, name))}
        />
      )}
    </Stage>
  )
}

/** What the next step of a first start is called as a button. */
const NEXT_OF_STEP: Partial<Record<FirstStartStep['id'], string>> = {
  devices: 'Remove the old devices',
  'power-off': 'Power the physical machine off',
  network: 'Connect the network card',
}

function wordsOf(view: ProofView): { heading: string; reason: string } {
  const { trial, computer, swapped, target } = view
  if (view.real) return wordsOfReal(view, view.real)
  if (!trial) {
    if (view.stays && view.offered.some((r) => r.name === 'boot-entry' && r.why === null))
      return {
        heading: 'The firmware does not begin with the new drive',
        reason: `Both drives are in the ${computer.name}. It is told of the ${target?.name} first, which can be undone.`,
      }
    return {
      heading: `The ${computer.name} has not been started yet`,
      reason: swapped
        ? `The ${target?.name ?? 'new disk'} is in. Starting follows every link from the firmware to the system, on the bytes of the drive.`
        : view.stays
          ? 'The new drive is not in it yet.'
          : 'It can be started now, but the old drive is still in it.',
    }
  }
  const words = `Trial ${trial.number}, ${trial.time}, from the ${trial.drive}.`
  if (view.rearranged)
    return {
      heading: 'Other drives are in it now; the next start will tell',
      reason: `The chain below is that of trial ${trial.number}, ${trial.time}, before the drives changed places.`,
    }
  if (!trial.trace.starts) {
    const stop = trial.trace.links.find((l) => l.state === 'failed')
    return {
      heading: view.repaired
        ? 'Repaired; the next start will tell'
        : `It stops at the ${stop?.title.toLowerCase() ?? 'start'}`,
      reason: view.repaired ? `The chain below is that of trial ${trial.number}, before the repair.` : words,
    }
  }
  if (trial.subject === 'source')
    return { heading: 'It starts, from the old drive', reason: `${words} This says nothing about the new one.` }
  if (view.repaired)
    return {
      heading: 'It has changed since it started; the next start will tell',
      reason: `${words} ${view.repairs.findLast((r) => !r.undone)?.title}: that came after it.`,
    }
  const { links } = trial.trace
  const unproved = links.filter((l) => l.state === 'unproved').length
  const failed = trial.checks.filter((c) => !c.passed)
  if (failed.length > 0)
    return {
      heading: `It starts, but ${failed.length === 1 ? 'one check' : `${failed.length} checks`} failed`,
      reason: words,
    }
  const checks = `${counted(trial.checks.length, 'check')} after it`
  if (unproved > 0)
    return {
      heading: `It starts from the ${trial.drive}, as far as it can be followed`,
      reason: `${words} ${links.length - unproved} of ${links.length} links passed, and ${checks}; the rest shows on its own screen.`,
    }
  const open = trial.checks.flatMap((c) => c.open ?? [])
  if (open.length > 0)
    return {
      heading: `It starts from the ${trial.drive}, with ${counted(open.length, 'thing')} left open`,
      reason: `${words} Every link passed, and ${checks}. ${open.slice(0, 3).join(' ')}`,
    }
  return {
    heading: `It starts from the ${trial.drive}, and everything is there`,
    reason: `${words} Every link passed, and ${checks}.`,
  }
}

/** Of a real computer: what was followed on the bytes here, and what a person saw there. */
function wordsOfReal({ trial, computer, target }: ProofView, { here }: { here: boolean }) {
  const drive = target?.name ?? 'new drive'
  const there = `Whether the ${computer.name} starts is seen there.`
  if (!trial)
    return {
      heading: `Nobody has seen the ${computer.name} start yet`,
      reason: here
        ? `The ${drive} is plugged in here, so its start can be followed on its bytes before it is put in.`
        : 'Start it from the new drive, and say what it did.',
    }
  const stop = trial.trace.links.find((l) => l.state === 'failed')
  const failed = trial.checks.filter((c) => !c.passed).length
  const checked =
    failed > 0
      ? ` ${counted(failed, 'check')} failed.`
      : trial.checks.length > 0
        ? ` ${counted(trial.checks.length, 'check')} passed.`
        : ''
  if (trial.told?.starts)
    return { heading: `It starts from the ${drive}, as was seen there`, reason: `Said ${trial.toldTime}.${checked}` }
  if (trial.told)
    return {
      heading: `It did not start from the ${drive}`,
      reason: `Said ${trial.toldTime}. Plugged in here, its start can be followed on its bytes.`,
    }
  return {
    heading: trial.trace.starts
      ? `It would start in the ${computer.name}`
      : `It would stop at the ${stop?.title.toLowerCase() ?? 'start'}`,
    reason: `Followed ${trial.time} on the bytes of the ${drive}, plugged in here.${checked} ${there}`,
  }
}

/** What a person can do besides, of a real computer. */
function RealTools(props: {
  readonly told: boolean
  readonly here: boolean
  readonly isSaid: boolean
  readonly isFollowed: boolean
  readonly busy: boolean
  readonly onStart: () => void
  readonly onTell: (starts: boolean) => void
}) {
  const { told, here, isSaid, isFollowed, busy, onStart, onTell } = props
  return (
    <div className="flex flex-wrap gap-2">
      {here && isFollowed && (
        <Button onClick={onStart} disabled={busy}>
          Follow it again
        </Button>
      )}
      {isSaid && !told && (
        <Button onClick={() => onTell(false)} disabled={busy}>
          It did not start
        </Button>
      )}
    </div>
  )
}

/** Two steps to the old drive, for a start that does not come right. */
function WayBack({
  wayBack,
  busy,
  onStep,
}: {
  wayBack: NonNullable<ProofView['wayBack']>
  busy: boolean
  onStep: () => void
}) {
  const next = wayBack.steps.findIndex((s) => !s.done)
  return (
    <AsideBlock title="The way back">
      <ol className="space-y-2" data-testid="way-back">
        {wayBack.steps.map((step, i) => (
          <li key={step.title} className="flex gap-2">
            <span className="w-4 shrink-0 font-mono text-ink-soft">
              {step.done ? <Check size={15} className="mt-0.5 inline" aria-label="Done" /> : i + 1}
            </span>
            <span className={step.done ? 'text-ink-soft' : ''}>
              {step.title}
              {i === next && (
                <span className="mt-1 block">
                  <Button small disabled={busy} onClick={onStep}>
                    Done
                  </Button>
                </span>
              )}
            </span>
          </li>
        ))}
      </ol>
      {next < 0 && <p className="mt-2 text-ink-soft">The next start is from the old drive, as before the move.</p>}
    </AsideBlock>
  )
}

function NoTrial({ name, mode }: { name: string; mode: ProofView['mode'] }) {
  const links = TRACE_LINKS[mode].map((id): TraceLink => {
    const title = LINK_TITLES[id]
    return { id, title, state: 'not-reached', found: `waits for the ${name} to be started`, evidence: '' }
  })
  return <Chain links={links} />
}
