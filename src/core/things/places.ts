import { formatRate } from '../bytes/size'
import { type BenchState, berthsOf, placeKey, placeName, slotAt, whySeenOnly, whyNotThere } from './bench'
import { linkIn } from './bodies'
import type { Drive, Place } from './drive'
import { LINKS } from './links'

/** A place that a drive could go to, and why not. */
export interface PlaceOption {
  readonly key: string
  readonly label: string
  readonly place: Place
  readonly why: string | null
  /** How fast it would be read and written there. */
  readonly speed: string | null
}

/** Every other place of a bench, with what keeps a drive from going there. */
export function placesFor(drive: Drive, bench: BenchState): PlaceOption[] {
  const places = [...berthsOf(bench).map((b) => b.berth), { kind: 'table' } as const]
  return places
    .filter((place) => placeKey(place) !== placeKey(drive.place))
    .map((place) => ({
      key: placeKey(place),
      label: placeName(place, bench),
      place,
      why: whySeenOnly(drive, place, bench) ?? whyNotThere(drive, place, bench) ?? null,
      speed: speedThere(drive, place, bench),
    }))
}

function speedThere(drive: Drive, place: Place, bench: BenchState): string | null {
  const slot = slotAt(bench, place)
  const link = slot && linkIn(drive, slot)
  if (!link) return null
  const rate = LINKS[link].bytesPerSecond
  const [read, write] = [Math.min(rate, drive.readBytesPerSecond), Math.min(rate, drive.writeBytesPerSecond)]
  return `${LINKS[link].name}: reads ${formatRate(read)}, writes ${formatRate(write)}`
}
