'use client'

import { Link } from '@/ui/frame/link'
import { useCallback, useMemo, useState } from 'react'
import { Pencil } from 'lucide-react'
import { formatCapacity, formatRate, formatSize, groupDigits } from '@/core/bytes/size'
import { healthVerdict } from '@/core/health/health'
import type { DriveUse } from '@/core/move/drive-use'
import { type PlaceOption, placesFor } from '@/core/things/places'
import { useAct } from '@/ui/frame/act'
import { useActions } from '@/ui/frame/actions'
import { NextAction } from '@/ui/frame/next-action'
import { AsideBlock, Stage } from '@/ui/frame/stage'
import { counted, listed } from '@/core/words'
import { Button, IconButton } from '@/ui/shared/button'
import { Facts } from '@/ui/shared/facts'
import { Callout } from '@/ui/shared/callout'
import { FindForm } from '@/ui/shared/find-form'
import { HealthBlock } from '@/ui/shared/health'
import { BorrowDialog } from '@/ui/shared/borrow-dialog'
import { MoveLinks } from '@/ui/shared/move-links'
import { AccessoryDialog } from './accessory-dialog'
import { BenchMenu } from './bench-menu'
import { Berth, CarriedPlate, DrivePlate, LooseQuay } from './berth'
import { ComputerDialog } from './computer-dialog'
import { DriveDialog, NewDriveDialog } from './drive-dialogs'
import { HandProvider, useHand } from './hand'
import { RemoveButton } from './remove-button'
import type { PluggedIn } from '@/core/things/drive'
import type { AdapterView, BenchProps, ComputerView, DriveView } from './types'

type Asked =
  | { readonly what: 'computer' | 'accessory'; readonly id?: string }
  | { readonly what: 'new-drive' | 'borrow' }
  | { readonly what: 'drive'; readonly id: string }

/** Every computer, dock and drive, and where each drive sits. */
export function Bench(props: BenchProps) {
  const { computers, accessories, farBenches, table, shelf, things } = props
  const moored = [...computers, ...accessories].flatMap((q) => q.berths.flatMap((b) => (b.drive ? [b.drive] : [])))
  const drives = [...moored, ...farBenches.flatMap((f) => f.drives), ...table, ...shelf]
  const [picked, setPicked] = useState<string>()
  const pick = useCallback((id: string) => setPicked(id), [])
  return (
    <HandProvider drives={drives} things={things} carried={(d) => <CarriedPlate drive={d} />} onPick={pick}>
      <BenchPlan {...props} drives={drives} picked={picked} onPick={pick} />
    </HandProvider>
  )
}

interface BenchPlanProps extends BenchProps {
  readonly drives: readonly DriveView[]
  readonly picked?: string
  readonly onPick: (id: string) => void
}

function BenchPlan(props: BenchPlanProps) {
  const { computers, accessories, farBenches, others, table, shelf, uses, drives, picked, onPick, things, models } =
    props
  const { go, busy } = useAct()
  const hand = useHand()
  const [asked, setAsked] = useState<Asked>()
  const close = () => setAsked(undefined)
  const drive = drives.find((d) => d.id === picked)
  const places = useMemo(() => {
    const thing = things.drives.find((d) => d.id === picked)
    return thing ? placesFor(thing, things) : []
  }, [picked, things])
  const finding = hand.drive
    ? handFinding(hand.drive, hand.drive.id === picked ? places : [])
    : benchFinding(drives, props)
  return (
    <Stage
      {...finding}
      tools={
        <div className="flex flex-wrap gap-2">
          <Button onClick={() => setAsked({ what: 'computer' })}>Describe a computer</Button>
          {!props.isSeen && <Button onClick={() => setAsked({ what: 'new-drive' })}>Add a drive</Button>}
          <Button onClick={() => setAsked({ what: 'accessory' })}>Add something else</Button>
          <Button onClick={() => setAsked({ what: 'borrow' })}>Borrow a drive</Button>
          {!props.isSeen && <BenchMenu name={props.name} benches={props.benches} />}
        </div>
      }
      aside={
        drive ? (
          <DriveAside
            drive={drive}
            places={places}
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
      {props.unreadable.length > 0 && (
        <div className="mb-3">
          <Callout tone="bad">
            {counted(props.unreadable.length, 'thing')} of this bench cannot be read and{' '}
            {props.unreadable.length === 1 ? 'is' : 'are'} left out: {props.unreadable.slice(0, 5).join(', ')}. Nothing
            of it was changed; the server’s log says what is wrong with its description.
          </Callout>
        </div>
      )}
      <FindForm
        path="/bench"
        label="Find a computer or a drive"
        placeholder="Name, model or serial"
        find={props.find}
        hidden={hiddenWords(props.hidden)}
      />
      {computers.length + accessories.length + others.length + props.totals.drives === 0 && (
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
        {farBenches.map((far) => (
          <section
            key={far.id}
            className="rounded-lg border border-line-strong bg-sunk p-3"
            data-testid={`quay-${far.id}`}
          >
            <QuayHead
              name={far.name}
              detail={`another bench, ${far.detail}`}
              onEdit={() => setAsked({ what: 'accessory', id: far.id })}
              remove={{ kind: 'accessory', id: far.id }}
            />
            <p className="mb-2 text-[13px] text-ink-soft">
              {far.computers.length > 0 && `With the ${listed(far.computers)}. `}
              <Link href="/lent" className="font-semibold text-sea-4 underline underline-offset-2">
                Open what is lent<span className="sr-only"> by {far.name}</span>
              </Link>
            </p>
            <ul className="space-y-2">
              {far.drives.map((d) => (
                <li key={d.id}>
                  <DrivePlate drive={d} picked={picked === d.id} onPick={onPick} />
                </li>
              ))}
            </ul>
          </section>
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
              {...(thing.isSeen
                ? {}
                : {
                    onEdit: () => setAsked({ what: 'accessory', id: thing.id }),
                    remove: { kind: 'accessory', id: thing.id },
                  })}
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
          farBenches={farBenches}
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
      {asked?.what === 'borrow' && <BorrowDialog onClose={close} />}
      {asked?.what === 'new-drive' && <NewDriveDialog models={models.drives} images={props.images} onClose={close} />}
      {asked?.what === 'drive' && <DriveDialog drive={things.drives.find((d) => d.id === asked.id)!} onClose={close} />}
    </Stage>
  )
}

function hiddenWords({ quays, loose }: BenchProps['hidden']): string {
  return [
    ...(quays > 0 ? [counted(quays, 'computer or dock', 'computers and docks')] : []),
    ...(loose > 0 ? [counted(loose, 'loose drive')] : []),
  ].join(', ')
}

interface QuayProps {
  readonly picked?: string
  readonly onPick: (id: string) => void
  readonly onEdit: () => void
}

function ComputerQuay({ computer, picked, onPick, onEdit }: QuayProps & { computer: ComputerView }) {
  const { act, busy } = useAct()
  const actions = useActions()
  return (
    <section className="rounded-lg border border-line-strong bg-sunk p-3" data-testid={`quay-${computer.id}`}>
      <QuayHead
        name={computer.name}
        detail={computer.detail}
        onEdit={onEdit}
        remove={computer.isThis ? undefined : { kind: 'computer', id: computer.id }}
      />
      <p className="mb-2 flex flex-wrap items-center gap-x-2 text-[13px] text-ink-soft">
        {computer.state}
        {!computer.isVirtual && !computer.isThis && (
          <Button
            small
            disabled={busy}
            onClick={() => void act(() => actions.setPower({ computerId: computer.id, mains: !computer.mains }))}
            className="!px-1.5"
          >
            {computer.mains ? 'Unplug' : 'Plug in'}
            <span className="sr-only">, mains of the {computer.name}</span>
          </Button>
        )}
        <Link href={`/computers/${computer.id}`} className="font-semibold text-sea-4 underline underline-offset-2">
          Open computer
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

function AdapterQuay({ quay, picked, onPick, onEdit }: QuayProps & { quay: AdapterView }) {
  return (
    <section className="rounded-lg border border-line-strong bg-sunk p-3" data-testid={`quay-${quay.id}`}>
      <QuayHead
        name={quay.name}
        detail={quay.detail}
        {...(quay.isSeen ? {} : { onEdit, remove: { kind: 'accessory', id: quay.id } })}
      />
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
  readonly onEdit?: () => void
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
        {onEdit && (
          <IconButton label={`Change the ${name}`} onClick={onEdit}>
            <Pencil size={14} aria-hidden />
          </IconButton>
        )}
        {remove && <RemoveButton name={name} thing={remove} icon />}
      </div>
    </div>
  )
}

const SERIAL_OF: Record<PluggedIn['serialOf'], string> = {
  drive: 'its own',
  bridge: 'that of the bridge it hangs at',
  sectors: 'none; its number of sectors stands for it',
}

interface DriveAsideProps {
  readonly drive: DriveView
  readonly places: readonly PlaceOption[]
  readonly uses: readonly DriveUse[]
  readonly inHand: boolean
  readonly onEdit: () => void
}

function DriveAside({ drive, places, uses, inHand, onEdit }: DriveAsideProps) {
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
            ...(drive.pluggedIn
              ? [
                  { name: 'Here as', value: drive.pluggedIn.path ?? 'not plugged in', mono: true },
                  { name: 'Serial', value: SERIAL_OF[drive.pluggedIn.serialOf] },
                  { name: 'In use', value: drive.pluggedIn.uses.join(', ') || 'by nothing else' },
                ]
              : []),
            ...(drive.lentBy ? [{ name: 'Lent by', value: drive.lentBy.bench }] : []),
            ...(drive.lentBy?.bytesPerSecond
              ? [{ name: 'Connection carries', value: formatRate(drive.lentBy.bytesPerSecond), mono: true }]
              : []),
          ]}
        />
        <MoveLinks uses={uses} />
        <div className="mt-2 flex gap-2">
          <Button small onClick={onEdit}>
            Change
          </Button>
          {!drive.pluggedIn?.path && <RemoveButton name={drive.name} thing={{ kind: 'drive', id: drive.id }} />}
        </div>
      </AsideBlock>
      {inHand ? <HandKeys /> : <HealthBlock health={drive.health} />}
      {!drive.pluggedIn?.path && <Places places={places} />}
    </>
  )
}

/** Where a drive fits, with the speed it has there; the places that do not take it are folded away. */
function Places({ places }: { places: readonly PlaceOption[] }) {
  const fitting = places.filter((p) => !p.why)
  const others = places.filter((p) => p.why)
  return (
    <AsideBlock title="Where it can go">
      <ul className="space-y-1.5">
        {fitting.map((place) => (
          <li key={place.key}>
            <span className="font-semibold">{place.label}</span>
            {place.speed && <span className="block text-[13px] text-ink-soft">{place.speed}</span>}
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
            {others.map((place) => (
              <li key={place.key} className="text-ink-soft">
                {place.label}
                <span className="block text-[13px]">{place.why}</span>
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

/** Places by whose they are: `into SATA 0 and SATA 1 of the office PC, and on the table`. */
function placesInWords(labels: readonly string[]): string {
  const byOwner = new Map<string, string[]>()
  for (const label of labels) {
    const cut = label.lastIndexOf(', ')
    const [owner, place] = cut < 0 ? [label, undefined] : [label.slice(0, cut), label.slice(cut + 2)]
    byOwner.set(owner, [...(byOwner.get(owner) ?? []), ...(place ? [place] : [])])
  }
  const groups = [...byOwner].map(([owner, own]) =>
    own.length > 0 ? `into ${listed(own)} of the ${owner}` : owner.startsWith('on ') ? owner : `into the ${owner}`,
  )
  return groups.length > 3 ? `${groups.slice(0, 2).join(', ')} and ${groups.length - 2} more places` : listed(groups)
}

/** What is in hand, and where it goes. */
function handFinding(drive: DriveView, places: readonly PlaceOption[]): { heading: string; reason: string } {
  const names = places.flatMap((p) => (p.why ? [] : [p.label]))
  return {
    heading: `The ${drive.name} is in hand`,
    reason:
      names.length === 0
        ? 'It goes nowhere now; every place says why.'
        : `It fits ${placesInWords(names)}. Every other place says why not.`,
  }
}

/** The drives that will not wait, by name; else how many there are. */
function benchFinding(
  drives: readonly DriveView[],
  { totals, isSeen }: Pick<BenchProps, 'totals' | 'isSeen'>,
): { heading: string; reason: string } {
  const failing = drives.filter((d) => healthVerdict(d.health).state === 'failing')
  const moving = isSeen
    ? 'What is plugged into this computer, as it is seen now: a drive that comes or goes shows within a second.'
    : 'Drag a drive where it goes, or take it by its handle; each place says whether it fits.'
  if (totals.drives === 0)
    return {
      heading: 'No drives on this bench yet',
      reason: isSeen ? moving : 'A computer comes first, then the drive in it and the new one.',
    }
  if (totals.failing === 0) {
    return {
      heading:
        totals.drives === 1
          ? `1 drive, ${totals.connected === 1 ? 'connected' : 'not connected'}`
          : `${groupDigits(totals.drives)} drives, ${groupDigits(totals.connected)} of them connected`,
      reason: moving,
    }
  }
  const names = failing.map((d) => `the ${d.name}: ${healthVerdict(d.health).reason}`).join(' ')
  return {
    heading: totals.failing === 1 ? 'One drive is failing' : `${totals.failing} drives are failing`,
    reason: `${names.replace(/^t/, 'T')} ${moving}`,
  }
}
