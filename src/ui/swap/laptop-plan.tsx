import { screwGroups } from '@/core/things/chassis'
import { Mains, Part, type Plan, PowerButton, driveLabel, Screw, stroke } from './plan-parts'

const LEFT = 24
const RIGHT = 446
const TOP = 30
const BOTTOM = 286

/** Where the screws of the base sit, by what is said of their place. */
function placesOf(cover: Plan['computer']['cover']): (readonly [x: number, y: number])[] {
  return screwGroups(cover).flatMap(({ count, where }) => {
    if (/corner/.test(where)) return [LEFT, RIGHT].slice(0, count).map((x) => [x, TOP + 22] as const)
    const y = /hinge|rear|back/.test(where) ? TOP : BOTTOM
    const step = (RIGHT - LEFT) / (count + 1)
    return Array.from({ length: count }, (_, i) => [LEFT + step * (i + 1), y] as const)
  })
}

/** A laptop on its lid, its base taken off: the hinge above, the battery along its front. */
export function LaptopPlan({ computer, hot, slot, shownAt, inSlot }: Plan) {
  const { slots, mains, cover, driveMount } = computer
  const shown = slots[shownAt]
  return (
    <>
      <rect
        x={LEFT}
        y={TOP}
        width={RIGHT - LEFT}
        height={BOTTOM - TOP}
        rx="12"
        fill="var(--sheet-sunk)"
        stroke={stroke(hot('cover'))}
        strokeWidth={hot('cover') ? 3 : 2}
      />
      <Mains y={74} to={LEFT} on={hot('mains')} plugged={mains} />
      <rect x="44" y="50" width="270" height="126" rx="4" fill="var(--sea-1)" stroke="var(--sea-3)" />
      <circle cx="96" cy="104" r="36" fill="none" stroke="var(--line-strong)" strokeWidth="1.6" />
      <text x="96" y="108" textAnchor="middle" fontSize="12.5" fill="var(--ink-soft)">
        fan
      </text>
      <path d="M132 92H214V118H132" fill="none" stroke="var(--line-strong)" strokeWidth="5" />
      <Part at={[196, 84, 44, 44]} on={false} label="" fill="var(--sheet)" />
      <Part at={[254, 140, 60, 24]} on={hot('slot')} label={slot ?? shown?.id ?? ''} mono />
      <Part
        at={[318, 130, 108, 42]}
        on={hot('drive', 'slot')}
        label={driveLabel(inSlot)}
        fill={inSlot ? 'var(--sea-2)' : 'var(--paper)'}
        empty={!inSlot}
      />
      {driveMount.screws > 0 && <Screw x={432} y={151} on={hot('drive')} small />}
      <Part at={[44, 192, 382, 74]} on={hot('power')} label="battery" fill="var(--paper)" />
      <PowerButton x={412} y={62} on={hot('button')} />
      <text x="392" y="66" textAnchor="end" fontSize="12" fill="var(--ink-soft)">
        power button
      </text>
      {placesOf(cover).map(([x, y]) => (
        <Screw key={`${x}-${y}`} x={x} y={y} on={hot('cover')} />
      ))}
      {hot('dock') && <Part at={[330, 86, 96, 34]} on label="outside" />}
    </>
  )
}
