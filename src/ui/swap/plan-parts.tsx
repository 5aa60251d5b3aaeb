import { type Chassis, screwGroups, screwWords } from '@/core/things/chassis'
import type { SwapStep } from '@/core/swap/types'
import { counted } from '@/core/words'

// What the plans of all cases share.

export interface PlannedComputer {
  readonly name: string
  readonly kind: Chassis['kind']
  readonly slots: readonly { readonly id: string; readonly holds: string | null }[]
  readonly mains: boolean
  readonly cover: Chassis['cover']
  readonly driveMount: Chassis['driveMount']
}

/** What a plan draws: the computer, and what of it the step is about. */
export interface Plan {
  readonly computer: PlannedComputer
  readonly hot: (...places: SwapStep['place'][]) => boolean
  /** The slot that the step is about. */
  readonly slot: string | undefined
  /** Which slot's drive is drawn: the step's, or else the first that is in. */
  readonly shownAt: number
  readonly inSlot: string | null
  /** Another slot with a drive in it, where there is one. */
  readonly beside: { readonly at: number; readonly holds: string } | undefined
  readonly caption: string
}

export function planOf(computer: PlannedComputer, step: SwapStep | undefined): Plan {
  const { slots, cover, driveMount, mains } = computer
  const named = slots.findIndex((s) => s.id === step?.slot)
  const filled = slots.findIndex((s) => s.holds)
  const shownAt = Math.max(0, named >= 0 ? named : filled)
  return {
    computer,
    hot: (...places) => step?.place !== undefined && places.includes(step.place),
    slot: step?.slot,
    shownAt,
    inSlot: slots[shownAt]?.holds ?? null,
    beside: slots.flatMap(({ holds }, at) => (holds && at !== shownAt ? [{ at, holds }] : []))[0],
    caption: [`mains ${mains ? 'in' : 'out'}`, screwsOf(cover), screwsOf(driveMount)].filter(Boolean).join(' · '),
  }
}

/** `5 screws M2 × 6 mm, 5 screws M2 × 4 mm`: by what they are, wherever they sit. */
function screwsOf(held: Chassis['driveMount']): string {
  const byKind = new Map<string, number>()
  for (const group of screwGroups(held))
    byKind.set(screwWords(group), (byKind.get(screwWords(group)) ?? 0) + group.count)
  return [...byKind].map(([kind, count]) => `${counted(count, 'screw')} ${kind}`).join(', ')
}

export const stroke = (on: boolean) => (on ? 'var(--magenta)' : 'var(--ink)')
export const wash = (on: boolean, otherwise: string) => (on ? 'var(--magenta-wash)' : otherwise)

interface PartProps {
  readonly at: readonly [x: number, y: number, width: number, height: number]
  readonly on: boolean
  readonly label: string
  readonly fill?: string
  readonly mono?: boolean
  /** Drawn as a place that holds nothing. */
  readonly empty?: boolean
}

/** One part of the computer with its name in it. */
export function Part({ at: [x, y, width, height], on, label, fill = 'var(--sheet)', mono, empty }: PartProps) {
  return (
    <g>
      <rect
        x={x}
        y={y}
        width={width}
        height={height}
        rx="4"
        fill={wash(on, fill)}
        stroke={stroke(on)}
        strokeWidth={on ? 2.5 : 1.2}
        strokeDasharray={empty ? '4 4' : undefined}
      />
      <text
        x={x + width / 2}
        y={y + height / 2 + 4}
        textAnchor="middle"
        fontSize="12"
        fontFamily={mono ? 'var(--font-mono)' : undefined}
        fill="var(--ink)"
      >
        {label}
      </text>
    </g>
  )
}

export function Screw({ x, y, on, small }: { x: number; y: number; on: boolean; small?: boolean }) {
  const fill = wash(on, 'var(--sheet)')
  return <circle cx={x} cy={y} r={small ? 3.4 : 6} fill={fill} stroke={stroke(on)} strokeWidth={small ? 1 : 1.6} />
}

/** The cable from the wall, whole when it is in. */
export function Mains({ y, to, on, plugged }: { y: number; to: number; on: boolean; plugged: boolean }) {
  const colour = on ? 'var(--magenta)' : plugged ? 'var(--ink)' : 'var(--line-strong)'
  return <path d={`M${to} ${y}H2`} stroke={colour} strokeWidth="4" strokeDasharray={plugged ? undefined : '3 5'} />
}

export function PowerButton({ x, y, on }: { x: number; y: number; on: boolean }) {
  return <circle cx={x} cy={y} r="13" fill={wash(on, 'var(--sheet)')} stroke={stroke(on)} strokeWidth="2" />
}

/** A drive's maker and model, without its size. */
export function driveLabel(holds: string | null): string {
  return holds ? holds.split(' ').slice(0, 2).join(' ') : 'empty'
}
