import { formatSize, GIB } from '@/core/bytes/size'

interface DepthProfileProps {
  /** Share used of each equal stretch, first sector to last. */
  readonly profile: readonly number[]
  readonly sizeBytes: number
  /** Where a copy is: everything before it is done. Bytes of the drive. */
  readonly doneBytes?: number
  /** Text beside the place in hand. */
  readonly inHand?: string
  /** Places of lost sectors, flagged. Bytes of the drive. */
  readonly lost?: readonly number[]
  readonly label: string
  /** Without its scale, where many stand below each other. */
  readonly bare?: boolean
}

const WIDTH = 740
const TOP = 20
const DEPTH = 96

/** A drive's length lying down: the deeper, the fuller. Done dark, to come pale, the place in hand magenta. */
export function DepthProfile({ profile, sizeBytes, doneBytes, inHand, lost = [], label, bare }: DepthProfileProps) {
  const step = WIDTH / profile.length
  const done = doneBytes === undefined ? 0 : (doneBytes / sizeBytes) * WIDTH
  const tick = tickBytes(sizeBytes)
  const ticks = bare ? [] : Array.from({ length: Math.floor(sizeBytes / tick) + 1 }, (_, i) => i * tick)
  const mark = Math.min(WIDTH - 2, Math.max(2, done))
  const flip = mark > WIDTH - 170
  return (
    <svg
      viewBox={bare ? `0 ${TOP} ${WIDTH} ${DEPTH}` : `0 0 ${WIDTH} ${TOP + DEPTH + 28}`}
      className="w-full"
      role="img"
      aria-label={label}
    >
      <rect x="0" y={TOP} width={WIDTH} height={DEPTH} fill="var(--sheet-sunk)" />
      <path d={area(profile, step, 0, WIDTH)} fill={doneBytes === undefined ? 'var(--sea-3)' : 'var(--sea-2)'} />
      {doneBytes !== undefined && done > 0 && <path d={area(profile, step, 0, done)} fill="var(--profile-done)" />}
      <line x1="0" x2={WIDTH} y1={TOP} y2={TOP} stroke="var(--ink)" strokeWidth="1.5" />
      {lost.map((at) => {
        const x = (at / sizeBytes) * WIDTH
        return (
          <g key={`lost ${at}`} data-testid="lost-flag">
            <line x1={x} x2={x} y1={TOP - 12} y2={TOP + DEPTH} stroke="var(--vermilion)" strokeWidth="1" />
            <path d={`M${x} ${TOP - 12}l9 4l-9 4z`} fill="var(--vermilion)" />
          </g>
        )
      })}
      {ticks.map((at, i) => {
        const x = (at / sizeBytes) * WIDTH
        const last = x > WIDTH - 40
        return (
          // A phone shows the picture at half its size: there every other label is larger.
          <g key={at} className={i % 2 === 1 ? 'max-sm:hidden' : undefined}>
            <line x1={x} x2={x} y1={TOP + DEPTH} y2={TOP + DEPTH + 5} stroke="var(--line-strong)" />
            <text
              x={x}
              y={TOP + DEPTH + 22}
              className="text-[11.5px] max-sm:text-[22px]"
              fill="var(--ink-soft)"
              fontFamily="var(--font-mono)"
              textAnchor={at === 0 ? 'start' : last ? 'end' : 'middle'}
            >
              {at === 0 ? '0' : formatSize(at).replace('.0', '')}
            </text>
          </g>
        )
      })}
      {inHand && doneBytes !== undefined && (
        <g>
          <rect x={mark - 2} y={TOP - 5} width="4.5" height={DEPTH + 8} fill="var(--magenta)" />
          <text
            x={flip ? mark - 8 : mark + 9}
            y={TOP + DEPTH - 8}
            textAnchor={flip ? 'end' : 'start'}
            className="text-[12px] max-sm:text-[22px]"
            fontWeight="700"
            fill="var(--magenta)"
            stroke="var(--sheet-sunk)"
            strokeWidth="4"
            paintOrder="stroke"
          >
            {inHand}
          </text>
        </g>
      )}
    </svg>
  )
}

function area(profile: readonly number[], step: number, from: number, to: number): string {
  let path = `M${from} ${TOP}`
  profile.forEach((share, i) => {
    const left = Math.max(from, i * step)
    const right = Math.min(to, (i + 1) * step)
    if (left < right) path += `V${(TOP + share * DEPTH).toFixed(1)}H${right.toFixed(2)}`
  })
  return `${path}V${TOP}Z`
}

/** A round step that gives four to nine ticks. */
function tickBytes(sizeBytes: number): number {
  const steps = [0.125, 0.25, 0.5, 1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000].map((gib) => gib * GIB)
  return steps.find((step) => sizeBytes / step <= 9) ?? sizeBytes / 4
}
