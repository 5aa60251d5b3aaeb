'use client'

import { useDraggable, useDroppable } from '@dnd-kit/core'
import { clsx } from 'clsx'
import { GripVertical } from 'lucide-react'
import { healthVerdict } from '@/core/health/health'
import { lowerFirst } from '@/core/words'
import { Pennant } from '@/ui/shared/pennant'
import { useHand } from './hand'
import type { BerthView, DriveView } from './types'

interface DrivePlateProps {
  readonly drive: DriveView
  readonly picked: boolean
  readonly onPick: (id: string) => void
}

/** A drive where it sits: dragged from anywhere on it, or picked up by its handle. */
export function DrivePlate({ drive, picked, onPick }: DrivePlateProps) {
  const hand = useHand()
  const { setNodeRef, listeners, isDragging } = useDraggable({ id: drive.id, disabled: drive.pluggedIn?.path != null })
  return (
    <div
      ref={setNodeRef}
      {...listeners}
      data-testid={`drive-${drive.id}`}
      className={clsx('touch-manipulation', isDragging && 'opacity-40')}
    >
      <PlateFace drive={drive} picked={picked || hand.drive?.id === drive.id}>
        <button
          type="button"
          onClick={() => onPick(drive.id)}
          className="min-w-0 flex-1 text-left"
          aria-pressed={picked}
        >
          <PlateWords drive={drive} />
        </button>
        {!drive.pluggedIn?.path && (
          <button
            type="button"
            aria-label={hand.drive?.id === drive.id ? `Put the ${drive.name} back` : `Pick up the ${drive.name}`}
            onClick={() => (hand.drive?.id === drive.id ? hand.putBack() : hand.pickUp(drive.id))}
            disabled={hand.busy}
            className="-mr-1 rounded p-1 text-ink-soft hover:bg-sunk"
          >
            <GripVertical size={16} aria-hidden />
          </button>
        )}
      </PlateFace>
    </div>
  )
}

/** The drive as it is carried. */
export function CarriedPlate({ drive }: { drive: DriveView }) {
  return (
    <div className="w-52 rotate-[-3deg] cursor-grabbing shadow-lg">
      <PlateFace drive={drive} picked>
        <div className="min-w-0">
          <PlateWords drive={drive} />
        </div>
      </PlateFace>
    </div>
  )
}

function PlateFace({ drive, picked, children }: { drive: DriveView; picked: boolean; children: React.ReactNode }) {
  const failing = healthVerdict(drive.health).state === 'failing' || drive.unreadable > 0
  return (
    <div
      className={clsx(
        'flex items-start justify-between gap-1 rounded-md border-l-[8px] bg-sheet py-1.5 pr-2 pl-2.5',
        picked
          ? 'border-l-magenta outline-2 outline-magenta'
          : failing
            ? 'border-l-vermilion outline-1 outline-vermilion'
            : 'border-l-sea-3 outline-1 outline-line-strong',
      )}
    >
      {children}
    </div>
  )
}

function PlateWords({ drive }: { drive: DriveView }) {
  const verdict = healthVerdict(drive.health)
  const notes = [
    ...(drive.encrypted ? ['encrypted'] : []),
    ...(drive.purpose === 'transfer' ? ['transfer drive'] : []),
    ...(drive.image ? ['an image'] : []),
    ...(drive.hasBytes ? [] : ['only described']),
    ...(drive.pluggedIn?.hasTwin ? ['another has the same serial'] : []),
  ]
  const bad = [
    ...(verdict.state === 'failing' ? ['failing'] : []),
    ...(drive.unreadable > 0 ? [`${drive.unreadable} sectors unreadable`] : []),
  ]
  return (
    <>
      {drive.lentBy && <Pennant {...drive.lentBy} />}
      <span className="block leading-5 font-bold">{drive.name}</span>
      <span className="block font-mono text-[12.5px] leading-4 text-ink-soft">
        {drive.pluggedIn?.serialOf === 'sectors' ? `${drive.serial} sectors` : drive.serial}
        {drive.pluggedIn?.path && `, ${drive.pluggedIn.path}`}
      </span>
      <span
        className={clsx(
          'block text-[12.5px] leading-[18px]',
          bad.length > 0 ? 'font-semibold text-vermilion' : 'text-ink-soft',
        )}
      >
        {[drive.detail, ...(bad.length > 0 ? bad : [`${drive.form.split(',')[0]} ${drive.protocol}`]), ...notes].join(
          ', ',
        )}
      </span>
      {drive.pluggedIn && drive.pluggedIn.uses.length > 0 && (
        <span className="block text-[12.5px] leading-[18px] font-semibold">
          in use: {drive.pluggedIn.uses.slice(0, 2).join(', ')}
          {drive.pluggedIn.uses.length > 2 && ` and ${drive.pluggedIn.uses.length - 2} more`}
        </span>
      )}
    </>
  )
}

interface BerthProps {
  readonly berth: BerthView
  readonly picked?: string
  readonly onPick: (id: string) => void
}

/** A slot or a bay: with a drive in hand it says whether that goes in, and why not. */
export function Berth({ berth, picked, onPick }: BerthProps) {
  const { setNodeRef, isOver } = useDroppable({ id: berth.key })
  const hand = useHand()
  const way = hand.placeFor(berth.key)
  return (
    <li ref={setNodeRef} data-testid={`berth-${berth.key}`}>
      <p className="font-mono text-[12.5px] text-ink-soft">{berth.name}</p>
      {berth.drive ? (
        <DrivePlate drive={berth.drive} picked={picked === berth.drive.id} onPick={onPick} />
      ) : (
        <FreePlace
          way={way}
          inHand={hand.drive}
          isOver={isOver}
          idle={`free: ${berth.takes}`}
          onPut={() => hand.putInto(berth.key)}
        />
      )}
      {berth.drive && way && (
        <p className={clsx('mt-1 text-[12.5px]', isOver ? 'font-semibold text-vermilion' : 'text-ink-soft')}>
          {way.why}
        </p>
      )}
    </li>
  )
}

interface FreePlaceProps {
  readonly way?: { readonly label: string; readonly why: string | null; readonly speed: string | null }
  readonly inHand?: DriveView
  readonly isOver: boolean
  readonly idle: string
  readonly onPut: () => void
}

/** A place that nothing is in. */
function FreePlace({ way, inHand, isOver, idle, onPut }: FreePlaceProps) {
  if (!inHand || !way) {
    return (
      <p className="rounded border border-dashed border-line-strong px-3 py-2.5 text-[12.5px] text-ink-soft">{idle}</p>
    )
  }
  if (way.why) {
    return (
      <p
        className={clsx(
          'rounded border border-dashed px-3 py-2.5 text-[12.5px]',
          isOver ? 'border-vermilion bg-vermilion-wash font-semibold' : 'border-line-strong text-ink-soft',
        )}
      >
        No: {lowerFirst(way.why)}
      </p>
    )
  }
  return (
    <button
      type="button"
      data-put
      onClick={onPut}
      className={clsx(
        'block w-full rounded border-2 border-dashed border-magenta px-3 py-2 text-left text-[12.5px]',
        isOver ? 'bg-magenta-wash font-semibold' : 'bg-sheet',
      )}
    >
      <span className="font-semibold">Put it here</span>
      <span className="sr-only">, {way.label}</span>
      {way.speed && <span className="block text-ink-soft">{way.speed}</span>}
    </button>
  )
}

/** The table or the shelf: any number of drives. */
export function LooseQuay({
  name,
  detail,
  dropKey,
  drives,
  picked,
  onPick,
}: {
  readonly name: string
  readonly detail: string
  readonly dropKey?: string
  readonly drives: readonly DriveView[]
  readonly picked?: string
  readonly onPick: (id: string) => void
}) {
  const { setNodeRef, isOver } = useDroppable({ id: dropKey ?? `no-${name}`, disabled: dropKey === undefined })
  const hand = useHand()
  const way = dropKey ? hand.placeFor(dropKey) : undefined
  return (
    <section
      ref={setNodeRef}
      className="rounded-lg border border-line-strong bg-sunk p-3.5"
      data-testid={`quay-${name}`}
    >
      <h2 className="text-[15px] font-bold">{name}</h2>
      <p className="mb-2 text-[13px] text-ink-soft">{detail}</p>
      <ul className="grid gap-2 sm:grid-cols-2">
        {drives.map((d) => (
          <li key={d.id}>
            <DrivePlate drive={d} picked={picked === d.id} onPick={onPick} />
          </li>
        ))}
        {(drives.length === 0 || way) && (
          <li>
            <FreePlace
              way={way}
              inHand={hand.drive}
              isOver={isOver}
              idle="Nothing here."
              onPut={() => dropKey && hand.putInto(dropKey)}
            />
          </li>
        )}
      </ul>
    </section>
  )
}
