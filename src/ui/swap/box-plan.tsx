import { Mains, Part, type Plan, PowerButton, driveLabel, Screw, stroke } from './plan-parts'

const SLOTS = 3
const CAGE = { x: 330, y: 150, width: 78, height: 124 }
const DRIVE = { x: 336, y: 158, width: 66, height: 44 }
const BESIDE = { y: 208, height: 38 }

/** A desktop, tower or server, seen from its open side. */
export function BoxPlan({ computer, hot, slot, shownAt, inSlot, beside }: Plan) {
  const { slots, mains, cover, driveMount } = computer
  const socketAt = (at: number) => 201 + Math.min(SLOTS - 1, at) * 34
  const cable = socketAt(shownAt)
  const gap = cover.screws > 1 ? Math.min(90, 200 / (cover.screws - 1)) : 0
  return (
    <>
      <rect
        x="20"
        y="20"
        width="400"
        height="270"
        rx="10"
        fill="var(--sheet-sunk)"
        stroke={stroke(hot('cover'))}
        strokeWidth={hot('cover') ? 3 : 2}
      />
      <Part at={[36, 36, 112, 78]} on={hot('power')} label="power supply" />
      <Mains y={58} to={36} on={hot('mains')} plugged={mains} />
      <rect x="164" y="36" width="150" height="238" rx="4" fill="var(--sea-1)" stroke="var(--sea-3)" />
      <circle cx="239" cy="101" r="37" fill="none" stroke="var(--line-strong)" strokeWidth="1.6" />
      <text x="239" y="105" textAnchor="middle" fontSize="12.5" fill="var(--ink-soft)">
        cooler
      </text>
      {slots.slice(0, SLOTS).map(({ id }, i) => (
        <Part key={id} at={[182, 190 + i * 34, 82, 22]} on={hot('slot') && id === slot} label={id} mono />
      ))}
      <rect {...CAGE} rx="4" fill="none" stroke="var(--line-strong)" strokeWidth="1.4" />
      <Part
        at={[DRIVE.x, DRIVE.y, DRIVE.width, DRIVE.height]}
        on={hot('drive', 'slot')}
        label={driveLabel(inSlot)}
        fill={inSlot ? 'var(--sea-2)' : 'var(--paper)'}
        empty={!inSlot}
      />
      {inSlot && (
        <path d={`M264 ${cable}C300 ${cable} 300 180 ${DRIVE.x} 180`} fill="none" stroke="var(--ink)" strokeWidth="3" />
      )}
      {beside && (
        <>
          <Part
            at={[DRIVE.x, BESIDE.y, DRIVE.width, BESIDE.height]}
            on={false}
            label={driveLabel(beside.holds)}
            fill="var(--sea-2)"
          />
          <path
            d={`M264 ${socketAt(beside.at)}C300 ${socketAt(beside.at)} 300 ${BESIDE.y + 19} ${DRIVE.x} ${BESIDE.y + 19}`}
            fill="none"
            stroke="var(--ink)"
            strokeWidth="3"
          />
        </>
      )}
      {[
        [DRIVE.x - 3, DRIVE.y + 4],
        [DRIVE.x + DRIVE.width + 3, DRIVE.y + 4],
        [DRIVE.x - 3, DRIVE.y + DRIVE.height - 4],
        [DRIVE.x + DRIVE.width + 3, DRIVE.y + DRIVE.height - 4],
      ]
        .slice(0, driveMount.screws)
        .map(([x, y]) => (
          <Screw key={`${x}-${y}`} x={x} y={y} on={false} small />
        ))}
      <text x="369" y="262" textAnchor="middle" fontSize="12" fill="var(--ink-soft)">
        drive cage
      </text>
      {Array.from({ length: Math.min(cover.screws, 8) }, (_, i) => (
        <Screw key={i} x={20} y={150 + Math.round(i * (cover.screws > 2 ? gap / 2 : gap))} on={hot('cover')} />
      ))}
      <PowerButton x={412} y={52} on={hot('button', 'power')} />
      <text x="404" y="84" textAnchor="end" fontSize="12" fill="var(--ink-soft)">
        power button
      </text>
      {hot('dock') && <Part at={[330, 98, 82, 40]} on label="outside" />}
    </>
  )
}
