export const KIB = 1024
export const MIB = 1024 * KIB
export const GIB = 1024 * MIB
export const TIB = 1024 * GIB

const UNITS = [
  ['TiB', TIB],
  ['GiB', GIB],
  ['MiB', MIB],
  ['KiB', KIB],
] as const

/**
 * A size in binary units as the interface shows it: one decimal from GiB up, none below when whole.
 * `formatSize(239_259_648_000)` is `222.8 GiB`.
 */
export function formatSize(bytes: number): string {
  const sign = bytes < 0 ? '-' : ''
  const size = Math.abs(bytes)
  for (const [name, unit] of UNITS) {
    // 1023.95 MiB and more would round to "1024.0 MiB": it is said in the next unit up.
    if (size < unit * 0.99995) continue
    const value = size / unit
    const whole = Number.isInteger(value) && (unit <= MIB || value < 10)
    const digits = whole ? 0 : 1
    return `${sign}${value.toFixed(digits)} ${name}`
  }
  return `${sign}${size} bytes`
}

/** A size that must not be rounded, as limits are, in the largest unit of which it is a whole number: `2040 GiB`. */
export function formatLimit(bytes: number): string {
  const [name, unit] = UNITS.find(([, one]) => bytes > 0 && bytes % one === 0) ?? ['bytes', 1]
  return `${bytes / unit} ${name}`
}

/** A transfer rate in decimal megabytes per second, as links and drives are rated. */
export function formatRate(bytesPerSecond: number): string {
  return `${groupDigits(Math.round(bytesPerSecond / 1e6))} MB/s`
}

/** Digits in groups of three with a space that does not break, for sector numbers. */
export function groupDigits(value: number): string {
  return Math.trunc(value)
    .toString()
    .replace(/\B(?=(\d{3})+(?!\d))/g, '\u00a0')
}

/** The drive makers' decimal capacity: `240 GB`, `2 TB`; of small ones `1.5 GB`, `600 MB`. */
export function formatCapacity(bytes: number): string {
  const gb = bytes / 1e9
  if (gb < 0.9995) return `${Math.round(bytes / 1e6)} MB`
  if (gb < 9.95) return `${Math.round(gb * 10) / 10} GB`
  return gb >= 1000 ? `${Math.round(gb / 100) / 10} TB` : `${Math.round(gb)} GB`
}

/** A duration in words short enough for a table: `8 min`, `1 h 05 min`, `40 s`. */
export function formatDuration(seconds: number): string {
  const whole = Math.max(0, Math.round(seconds))
  if (whole < 60) return `${whole} s`
  if (whole < 600) {
    const rest = whole % 60
    return rest === 0 ? `${whole / 60} min` : `${Math.floor(whole / 60)} min ${rest} s`
  }
  const minutes = Math.round(whole / 60)
  if (minutes < 60) return `${minutes} min`
  return `${Math.floor(minutes / 60)} h ${String(minutes % 60).padStart(2, '0')} min`
}

/** Rounds up to a multiple of `unit`; exact for all sizes a drive can have. */
export function alignUp(value: number, unit: number): number {
  return Math.ceil(value / unit) * unit
}

/** Rounds down to a multiple of `unit`. */
export function alignDown(value: number, unit: number): number {
  return Math.floor(value / unit) * unit
}

const TYPED: Record<string, number> = {
  b: 1,
  kib: KIB,
  mib: MIB,
  gib: GIB,
  tib: TIB,
  kb: 1e3,
  mb: 1e6,
  gb: 1e9,
  tb: 1e12,
  k: KIB,
  m: MIB,
  g: GIB,
  t: TIB,
}

/**
 * A size as a person types it: `350 GiB`, `1.5 TB`, `900g`; a number alone is GiB. `+20 %` and `+10 GiB` are
 * taken from `now`. Returns bytes, or undefined when it is no size.
 */
export function parseSize(text: string, now: number): number | undefined {
  const match = /^\s*(\+)?\s*(\d+(?:[.,]\d+)?)\s*(%|[a-z]*)\s*$/i.exec(text)
  if (!match) return undefined
  const [, plus, digits, unit] = match
  const value = Number(digits.replace(',', '.'))
  if (unit === '%') return plus ? now * (1 + value / 100) : undefined
  const factor = unit === '' ? GIB : TYPED[unit.toLowerCase()]
  if (factor === undefined) return undefined
  const bytes = (plus ? now : 0) + value * factor
  return Number.isSafeInteger(Math.round(bytes)) && bytes > 0 ? Math.round(bytes) : undefined
}
