import { parseSize } from '../bytes/size'

/** Capacity in bytes of a drive sold as so many GB with 512-byte sectors, by the drive makers' rule. */
export function capacityOf(gigabytes: number): number {
  return (97_696_368 + 1_953_504 * (gigabytes - 50)) * 512
}

/** The rule holds from here on. */
const FEWEST_GB = 80

/** A capacity as a person reads it off a drive: `960 GB` and `2 TB` by the makers' rule, any other size as it is. */
export function parseCapacity(text: string): number | undefined {
  const sold = /^\s*(\d+)\s*(GB|TB)\s*$/i.exec(text)
  const gigabytes = sold ? Number(sold[1]) * (sold[2].toUpperCase() === 'TB' ? 1000 : 1) : 0
  return gigabytes >= FEWEST_GB && gigabytes <= 1_000_000 ? capacityOf(gigabytes) : parseSize(text, 0)
}
