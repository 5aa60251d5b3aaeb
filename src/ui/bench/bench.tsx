'use client'

import Link from 'next/link'
import { useCallback, useState } from 'react'
import { Pencil } from 'lucide-react'
import { formatCapacity, formatSize } from '@/core/bytes/size'
import { healthVerdict } from '@/core/health/health'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { Button, IconButton } from '@/ui/shared/button'
import { Facts } from '@/ui/shared/facts'
import { HealthBlock } from '@/ui/shared/health'
import { AccessoryDialog } from './accessory-dialog'
import { BenchMenu } from './bench-menu'
import { Berth, CarriedPlate, LooseQuay } from './berth'
import { ComputerDialog } from './computer-dialog'
import { DriveDialog, NewDriveDialog } from './drive-dialogs'
import { HandProvider, useHand } from './hand'
import { RemoveButton } from './remove-button'
import type { BenchProps, ComputerView, DriveView, QuayView, Way } from './types'

type Asked =
  | { readonly what: 'computer' | 'accessory'; readonly id?: string }
  | { readonly what: 'new-drive' }
  | { readonly what: 'drive'; readonly id: string }

/** Every computer, dock and drive, and where each drive sits. */
export function Bench(props: BenchProps) {
  const { computers, accessories, table, shelf, ways } = props
  const moored = [...computers, ...accessories].flatMap((q) => q.berths.flatMap((b) => (b.drive ? [b.drive] : [])))
  const drives = [...moored, ...table, ...shelf]
  const [picked, setPicked] = useState<string>()
  const pick = useCallback((id: string) => setPicked(id), [])
  return (
    <HandProvider drives={drives} ways={ways} carried={(d) => <CarriedPlate drive={d} />} onPick={pick}>
      <BenchPlan {...props} drives={drives} connected={moored.length} picked={picked} onPick={pick} />
    </HandProvider>
  )
}

interface BenchPlanProps extends BenchProps {
  readonly drives: readonly DriveView[]
  readonly connected: number
  readonly picked?: string
  readonly onPick: (id: string) => void
}

function BenchPlan(props: BenchPlanProps) {
  const { computers, accessories, others, table, shelf, ways, uses, drives, picked, onPick, things, models } = props
  const { go, busy } = useAct()
  const hand = useHand()
  const [asked, setAsked] = useState<Asked>()
  const close = () => setAsked(undefined)
  const drive = drives.find((d) => d.id === picked)
  const finding = hand.drive
    ? handFinding(hand.drive, ways[hand.drive.id] ?? [])
    : benchFinding(drives, props.connected)
  return (
    <Stage
      {...finding}
      tools={
        <div className="flex flex-wrap gap-2">
          <Button onClick={() => setAsked({ what: 'computer' })}>Describe a computer</Button>
          <Button onClick={() => setAsked({ what: 'new-drive' })}>Add a drive</Button>
          <Button onClick={() => setAsked({ what: 'accessory' })}>Add something else</Button>
          <BenchMenu name={props.name} benches={props.benches} />
        </div>
      }
      aside={
        drive ? (
          <DriveAside
            drive={drive}
            ways={ways[drive.id] ?? []}
            uses={uses[drive.id] ?? []}
            inHand={hand.drive?.id === drive.id}
            onEdit={() => setAsked({ what: 'drive', id: drive.id })}
          />
        ) : (
          <p className="text-ink-soft">Select a drive to see its health, where it can go, and why not elsewhere.</p>
        )
      }
      next={
        drive?.hasBytes &&
        !hand.drive && (
          <NextAction label="Look inside" onAct={() => go(`/drives/${encodeURIComponent(drive.id)}`)} disabled={busy} />
        )
      }
    >
      {computers.length + accessories.length + others.length + drives.length === 0 && (
        <p className="panel mb-4 p-6 text-center text-ink-soft">
          This bench is empty. Describe the computer that stands on the table, then add its drive and the new one.
        </p>
      )}
      <div className="grid items-start gap-3 sm:grid-cols-2 md:grid-cols-3 xl:grid-cols-4">
        {computers.map((computer) => (
          <ComputerQuay
            key={computer.id}
            computer={computer}
            picked={picked}
            onPick={onPick}
            onEdit={() => setAsked({ what: 'computer', id: computer.id })}
          />
        ))}
        {accessories.map((quay) => (
          <AdapterQuay
            key={quay.id}
            quay={quay}
            picked={picked}
            onPick={onPick}
            onEdit={() => setAsked({ what: 'accessory', id: quay.id })}
          />
        ))}
      </div>
      <div className="mt-3 grid items-start gap-3 xl:grid-cols-2">
        <LooseQuay
          name="Table"
          detail="out of everything"
          dropKey="table"
          drives={table}
          picked={picked}
          onPick={onPick}
        />
        <LooseQuay
          name="Shelf"
          detail="old drives, kept until their day"
          drives={shelf}
          picked={picked}
          onPick={onPick}
        />
      </div>
      <ul className="mt-3 grid items-start gap-3 sm:grid-cols-2 md:grid-cols-3 xl:grid-cols-4">
        {others.map((thing) => (
          <li key={thing.id} className="rounded-lg border border-line-strong bg-sunk p-3">
            <QuayHead
              name={thing.name}
              detail={thing.detail}
              onEdit={() => setAsked({ what: 'accessory', id: thing.id })}
              remove={{ kind: 'accessory', id: thing.id }}
            />
            {thing.facts.map((fact) => (
              <p key={fact} className="font-mono text-[12.5px] text-ink-soft">
                {fact}
              </p>
            ))}
          </li>
        ))}
      </ul>
      {asked?.what === 'computer' && (
        <ComputerDialog
          computer={things.computers.find((c) => c.id === asked.id)}
          models={models.computers}
          onClose={close}
        />
      )}
      {asked?.what === 'accessory' && (
        <AccessoryDialog
          accessory={things.accessories.find((a) => a.id === asked.id)}
          models={models.accessories}
          onClose={close}
        />
      )}
      {asked?.what === 'new-drive' && <NewDriveDialog models={models.drives} images={props.images} onClose={close} />}
      {asked?.what === 'drive' && <DriveDialog drive={things.drives.find((d) => d.id === asked.id)!} onClose={close} />}
    </Stage>
  )
}

interface QuayProps {
  readonly picked?: string
  readonly onPick: (id: string) => void
  readonly onEdit: () => void
}

function ComputerQuay({ computer, picked, onPick, onEdit }: QuayProps & { computer: ComputerView }) {
  const { act, busy } = useAct()
  const { bench } = useActions()
  return (
    <section className="rounded-lg border border-line-strong bg-sunk p-3" data-testid={`quay-${computer.id}`}>
      <QuayHead
        name={computer.name}
        detail={computer.detail}
        onEdit={onEdit}
        remove={{ kind: 'computer', id: computer.id }}
      />
      <p className="mb-2 flex flex-wrap items-center gap-x-2 text-[13px] text-ink-soft">
        {computer.state}
        <Button
          small
          disabled={busy}
          onClick={() => void act(() => bench.setPower({ computerId: computer.id, mains: !computer.mains }))}
          className="!px-1.5"
        >
          {computer.mains ? 'pull it' : 'plug it in'}
          <span className="sr-only">, mains of the {computer.name}</span>
        </Button>
        <Link href={`/computers/${computer.id}`} className="font-semibold text-sea-4 underline underline-offset-2">
          Sit at it
          <span className="sr-only">: {computer.name}</span>
        </Link>
      </p>
      <ul className="space-y-2">
        {computer.berths.map((berth) => (
          <Berth key={berth.key} berth={berth} picked={picked} onPick={onPick} />
        ))}
      </ul>
      {computer.sockets && <p className="mt-2 font-mono text-[12px] text-ink-soft">{computer.sockets}</p>}
    </section>
  )
}

function AdapterQuay({ quay, picked, onPick, onEdit }: QuayProps & { quay: QuayView }) {
  return (
    <section className="rounded-lg border border-line-strong bg-sunk p-3" data-testid={`quay-${quay.id}`}>
      <QuayHead name={quay.name} detail={quay.detail} onEdit={onEdit} remove={{ kind: 'accessory', id: quay.id }} />
      <ul className="mt-1 space-y-2">
        {quay.berths.map((berth) => (
          <Berth key={berth.key} berth={berth} picked={picked} onPick={onPick} />
        ))}
      </ul>
    </section>
  )
}

interface QuayHeadProps {
  readonly name: string
  readonly detail: string
  readonly onEdit: () => void
  readonly remove?: { readonly kind: string; readonly id: string }
}

function QuayHead({ name, detail, onEdit, remove }: QuayHeadProps) {
  return (
    <div className="mb-1 flex items-start justify-between gap-2">
      <div className="min-w-0">
        <h2 className="text-[15px] font-bold first-letter:uppercase">{name}</h2>
        <p className="text-[13px] text-ink-soft">{detail}</p>
      </div>
      <div className="flex shrink-0 gap-1">
        <IconButton label={`Change the ${name}`} onClick={onEdit}>
          <Pencil size={14} aria-hidden />
        </IconButton>
        {remove && <RemoveButton name={name} thing={remove} icon />}
      </div>
    </div>
  )
}

interface DriveAsideProps {
  readonly drive: DriveView
  readonly ways: readonly Way[]
  readonly uses: readonly string[]
  readonly inHand: boolean
  readonly onEdit: () => void
}

function DriveAside({ drive, ways, uses, inHand, onEdit }: DriveAsideProps) {
  return (
    <>
      <AsideBlock title={inHand ? 'In hand' : 'Selected drive'}>
        <p className="text-[19px] font-bold">{drive.name}</p>
        <p className="mb-2 font-mono text-ink-soft">s/n {drive.serial}</p>
        <Facts
          facts={[
            { name: 'Form', value: drive.form },
            { name: 'Speaks', value: drive.protocol },
            { name: 'Sold as', value: formatCapacity(drive.sizeBytes), mono: true },
            { name: 'Holds', value: formatSize(drive.sizeBytes), mono: true },
            {
              name: 'Sectors',
              // An image does not tell how long the medium's own are.
              value: drive.image
                ? `${drive.logicalSectorSize}`
                : `${drive.logicalSectorSize} in ${drive.physicalSectorSize}`,
              mono: true,
            },
            ...(drive.image ? [{ name: 'Image', value: drive.image }] : []),
          ]}
        />
        {uses.length > 0 && <p className="mt-2 text-[13px] text-ink-soft">Part of: {uses.join('; ')}.</p>}
        <div className="mt-2 flex gap-2">
          <Button small onClick={onEdit}>
            Change
          </Button>
          <RemoveButton name={drive.name} thing={{ kind: 'drive', id: drive.id }} />
        </div>
      </AsideBlock>
      {inHand ? <HandKeys /> : <HealthBlock health={drive.health} />}
      <Ways ways={ways} />
    </>
  )
}

/** Where a drive fits, with the speed it has there; the places that do not take it are folded away. */
function Ways({ ways }: { ways: readonly Way[] }) {
  const fitting = ways.filter((w) => !w.why)
  const others = ways.filter((w) => w.why)
  return (
    <AsideBlock title="Where it can go">
      <ul className="space-y-1.5">
        {fitting.map((way) => (
          <li key={way.key}>
            <span className="font-semibold">{way.label}</span>
            {way.speed && <span className="block text-[13px] text-ink-soft">{way.speed}</span>}
          </li>
        ))}
        {fitting.length === 0 && <li className="text-ink-soft">Nowhere else now.</li>}
      </ul>
      {others.length > 0 && (
        <details className="mt-2">
          <summary className="cursor-pointer text-ink-soft">
            {others.length === 1 ? 'One place does not take it' : `${others.length} places do not take it`}
          </summary>
          <ul className="mt-1.5 space-y-1.5">
            {others.map((way) => (
              <li key={way.key} className="text-ink-soft">
                {way.label}
                <span className="block text-[13px]">{way.why}</span>
              </li>
            ))}
          </ul>
        </details>
      )}
    </AsideBlock>
  )
}

const HAND_KEYS: readonly [string, string][] = [
  ['Pick up, put down', 'Space'],
  ['Next place that fits', 'Tab'],
  ['Put back', 'Esc'],
]

function HandKeys() {
  return (
    <AsideBlock title="Keys">
      <Facts
        facts={HAND_KEYS.map(([name, key]) => ({
          name,
          value: <kbd className="rounded border border-line-strong px-1.5 text-xs">{key}</kbd>,
        }))}
      />
    </AsideBlock>
  )
}

/** What is in hand, and where it goes. */
function handFinding(drive: DriveView, ways: readonly Way[]): { heading: string; reason: string } {
  const fitting = ways.filter((w) => !w.why)
  const names = fitting.map((w) => w.label)
  const listed =
    names.length > 3 ? `${names.slice(0, 2).join(', ')} and ${names.length - 2} more places` : names.join(', ')
  return {
    heading: `The ${drive.name} is in hand`,
    reason:
      names.length === 0
        ? 'It goes nowhere now; every place says why.'
        : `It fits: ${listed}. Every other place says why not.`,
  }
}

/** The drives that will not wait, by name; else how many there are. */
function benchFinding(drives: readonly DriveView[], connected: number): { heading: string; reason: string } {
  const failing = drives.filter((d) => healthVerdict(d.health).state === 'failing')
  const moving = 'Drag a drive where it goes, or take it by its handle; each place says whether it fits.'
  if (drives.length === 0) return { heading: 'No drives on this bench yet', reason: moving }
  if (failing.length === 0) {
    return {
      heading: `${drives.length} ${drives.length === 1 ? 'drive' : 'drives'}, ${connected} of them connected`,
      reason: moving,
    }
  }
  const names = failing.map((d) => `the ${d.name}: ${healthVerdict(d.health).reason}`).join(' ')
  return {
    heading: failing.length === 1 ? 'One drive is failing' : `${failing.length} drives are failing`,
    reason: `${names.replace(/^t/, 'T')} ${moving}`,
  }
}
