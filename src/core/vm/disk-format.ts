import { formatLimit } from '../bytes/size'
import { type TargetFormat, TARGETS } from '../image'
import { DISK_FORMATS, type DiskFormat, diskFormatName, type Host } from '../things/accessory'
import { listed } from '../words'

/** The format that the disks of a virtual machine get, and why, as a sentence. */
export interface DiskFormatChoice {
  readonly format: DiskFormat
  readonly reason: string
}

/** Repairs write into these where they lie. */
const REPAIRED: readonly DiskFormat[] = ['vhdx', 'vhd', 'raw']

/** The largest disk of a format in bytes. */
export const mostBytesOf = (format: DiskFormat): number =>
  (TARGETS[format] as TargetFormat).mostBytes ?? Number.MAX_SAFE_INTEGER

/**
 * The best format for a disk of `sizeBytes` among those that a host takes; where none holds so much, the one that holds
 * most, in which a smaller disk fits.
 */
export function diskFormatFor(
  { name, diskFormats }: Pick<Host, 'name' | 'diskFormats'>,
  sizeBytes: number,
): DiskFormatChoice {
  const taken = DISK_FORMATS.filter((format) => diskFormats.includes(format))
  const largest = taken.toSorted((a, b) => mostBytesOf(b) - mostBytesOf(a))[0]
  const format = taken.find((one) => mostBytesOf(one) >= sizeBytes) ?? largest
  const better = DISK_FORMATS.slice(0, DISK_FORMATS.indexOf(format))
  const small = better.filter((one) => diskFormats.includes(one))
  const refused = better.filter((one) => !diskFormats.includes(one)).map(diskFormatName)
  const because = [
    ...(refused.length === 0 ? [] : [`the ${name} takes ${refused.length > 1 ? 'none of' : 'no'} ${listed(refused)}`]),
    ...small.map((one) => `a ${diskFormatName(one)} ends at ${formatLimit(mostBytesOf(one))}`),
  ]
  const is = `Its disks are ${diskFormatName(format)}`
  const end =
    mostBytesOf(format) < sizeBytes
      ? ` It holds no disk beyond ${formatLimit(mostBytesOf(format))}: Fit makes it smaller.`
      : ''
  const fixed = REPAIRED.includes(format)
    ? ''
    : ` Nothing is repaired in ${diskFormatName(format)} from here, so drivers and old devices are seen to inside the virtual machine.`
  return {
    format,
    reason: `${is}${because.length === 0 ? `, which the ${name} takes` : `, since ${because.join(', and ')}`}.${end}${fixed}`,
  }
}
