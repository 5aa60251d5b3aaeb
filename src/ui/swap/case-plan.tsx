import type { SwapStep } from '@/core/swap/types'
import type { Chassis } from '@/core/things/chassis'

interface CasePlanProps {
  readonly computer: {
    readonly name: string
    readonly slots: readonly { readonly id: string; readonly holds: string | null }[]
    readonly mains: boolean
    readonly cover: Chassis['cover']
    readonly driveMount: Chassis['driveMount']
  }
  readonly step?: SwapStep
}

/** The opened computer seen from its side, with the part that this step is about in magenta. */
export function CasePlan({ computer, step }: CasePlanProps) {
  const place = step?.place
  const hot = (...places: SwapStep['place'][]) => place !== undefined && places.includes(place)
  const stroke = (on: boolean) => (on ? 'var(--magenta)' : 'var(--ink)')
  const wash = (on: boolean, otherwise: string) => (on ? 'var(--magenta-wash)' : otherwise)
  // The cage shows the drive that the step is about, or else the first that is in.
  const shown =
    computer.slots.find((s) => s.id === step?.slot) ?? computer.slots.find((s) => s.holds) ?? computer.slots[0]
  const inSlot = shown?.holds
  const shownAt = Math.max(0, computer.slots.indexOf(shown))
  return (
    <figure className="panel p-4">
      <svg
        viewBox="0 0 470 330"
        className="w-full"
        role="img"
        aria-label={`The opened ${computer.name}${step ? `; now: ${step.title}` : ''}`}
      >
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
        {/* Power supply, with mains and button at its side. */}
        <rect
          x="36"
          y="36"
          width="112"
          height="78"
          rx="4"
          fill={wash(hot('power'), 'var(--sheet)')}
          stroke={stroke(hot('power'))}
          strokeWidth={hot('power') ? 2.5 : 1.2}
        />
        <text x="92" y="80" textAnchor="middle" fontSize="13" fill="var(--ink-soft)">
          power supply
        </text>
        <path
          d="M36 58H8"
          stroke={hot('mains') ? 'var(--magenta)' : computer.mains ? 'var(--ink)' : 'var(--line-strong)'}
          strokeWidth="4"
          strokeDasharray={computer.mains ? undefined : '3 5'}
        />
        <text x="28" y="310" fontSize="12.5" fill="var(--ink-soft)">
          {[`mains ${computer.mains ? 'in' : 'out'}`, screwsOf(computer.cover), screwsOf(computer.driveMount)].join(
            ' · ',
          )}
        </text>
        {/* Board. */}
        <rect x="164" y="36" width="150" height="238" rx="4" fill="var(--sea-1)" stroke="var(--sea-3)" />
        <rect x="202" y="64" width="74" height="74" rx="37" fill="none" stroke="var(--line-strong)" strokeWidth="1.6" />
        <text x="239" y="105" textAnchor="middle" fontSize="12.5" fill="var(--ink-soft)">
          cooler
        </text>
        {computer.slots.slice(0, 3).map(({ id: slot }, i) => (
          <g key={slot}>
            <rect
              x="182"
              y={190 + i * 34}
              width="82"
              height="22"
              rx="3"
              fill={wash(hot('slot') && slot === step?.slot, 'var(--sheet)')}
              stroke={stroke(hot('slot') && slot === step?.slot)}
            />
            <text
              x="223"
              y={205 + i * 34}
              textAnchor="middle"
              fontSize="12"
              fontFamily="var(--font-mono)"
              fill="var(--ink)"
            >
              {slot}
            </text>
          </g>
        ))}
        {/* Drive cage. */}
        <rect
          x="330"
          y="150"
          width="74"
          height="124"
          rx="4"
          fill="none"
          stroke="var(--line-strong)"
          strokeWidth="1.4"
        />
        <rect
          x="336"
          y="158"
          width="62"
          height="44"
          rx="3"
          fill={wash(hot('drive', 'slot'), inSlot ? 'var(--sea-2)' : 'var(--paper)')}
          stroke={stroke(hot('drive', 'slot'))}
          strokeWidth={hot('drive', 'slot') ? 2.5 : 1.2}
          strokeDasharray={inSlot ? undefined : '4 4'}
        />
        <text x="367" y="184" textAnchor="middle" fontSize="11.5" fill="var(--ink)">
          {inSlot ? inSlot.split(' ').slice(0, 2).join(' ') : 'empty'}
        </text>
        {inSlot && (
          <path
            d={`M264 ${201 + Math.min(2, shownAt) * 34}C300 ${201 + Math.min(2, shownAt) * 34} 300 180 336 180`}
            fill="none"
            stroke="var(--ink)"
            strokeWidth="3"
          />
        )}
        {[
          [333, 162],
          [333, 198],
          [401, 162],
          [401, 198],
        ].map(([x, y]) => (
          <circle key={`${x}-${y}`} cx={x} cy={y} r="3.4" fill="var(--sheet)" stroke="var(--ink)" />
        ))}
        <text x="367" y="262" textAnchor="middle" fontSize="12" fill="var(--ink-soft)">
          drive cage
        </text>
        {/* Panel screws and the power button. */}
        {Array.from({ length: computer.cover.screws }, (_, i) => (
          <circle
            key={i}
            cx="20"
            cy={150 + i * 90}
            r="6"
            fill={wash(hot('cover'), 'var(--sheet)')}
            stroke={stroke(hot('cover'))}
            strokeWidth="1.6"
          />
        ))}
        <circle
          cx="412"
          cy="52"
          r="13"
          fill={wash(hot('button', 'power'), 'var(--sheet)')}
          stroke={stroke(hot('button', 'power'))}
          strokeWidth="2"
        />
        <text x="404" y="84" textAnchor="end" fontSize="12" fill="var(--ink-soft)">
          power button
        </text>
        {hot('dock') && (
          <g>
            <rect
              x="330"
              y="98"
              width="82"
              height="40"
              rx="4"
              fill="var(--magenta-wash)"
              stroke="var(--magenta)"
              strokeWidth="2.5"
            />
            <text x="371" y="122" textAnchor="middle" fontSize="12" fill="var(--ink)">
              dock
            </text>
          </g>
        )}
      </svg>
    </figure>
  )
}

/** `2 screws, M3 × 5 mm`; only up to the first comma of where they sit. */
function screwsOf({ screws, screw }: { screws: number; screw: string }): string {
  return screws === 0 ? 'no screws' : `${screws} screws ${screw.split(',')[0]}`
}
