import { type BlockDevice, type Extent, isZero } from '../block/device'
import { partsOf } from '../block/extents'
import { concatBytes } from '../bytes/concat'
import { sameBytes } from '../bytes/same'
import { type Digest, toHex } from '../digest'

/** Bytes kept of each piece's digest: enough to tell any two pieces apart. */
export const KEPT_BYTES = 16

/** The digests of pieces by their place in the work list; a few bytes for each piece of a drive of any size. */
export class PieceDigests {
  private bytes = new Uint8Array(1024 * KEPT_BYTES)
  private count = 0

  get length(): number {
    return this.count
  }

  set(index: number, digest: Uint8Array): void {
    const at = index * KEPT_BYTES
    if (at + KEPT_BYTES > this.bytes.length) {
      const larger = new Uint8Array(Math.max(this.bytes.length * 2, at + KEPT_BYTES))
      larger.set(this.bytes)
      this.bytes = larger
    }
    this.bytes.set(digest.subarray(0, KEPT_BYTES), at)
    this.count = Math.max(this.count, index + 1)
  }

  is(index: number, digest: Uint8Array): boolean {
    const kept = this.slice(index, index + 1)
    return kept.every((byte, i) => byte === digest[i])
  }

  /** The digests of pieces `from` up to but without `to`, one after the other. */
  slice(from: number, to: number): Uint8Array {
    return this.bytes.subarray(from * KEPT_BYTES, to * KEPT_BYTES)
  }

  /** One digest over those of all pieces, in order. */
  whole(digest: Digest): string {
    return toHex(digest(this.slice(0, this.count)))
  }
}

/** The digest of a piece. Zeros have one of their own form, so that telling them needs no hashing. */
export function pieceDigest(bytes: Uint8Array, digest: Digest): Uint8Array {
  return isZero(bytes) ? zeroDigest(bytes.length) : digest(bytes).subarray(0, KEPT_BYTES)
}

/**
 * The digest of a piece of a device, read into `into`. One that is longer than that goes through it in parts, and has
 * the digest of the digests of these unless all are zeros. Where the device holds nothing it gives zeros, which need
 * not be read. Rejects as the device's reading does.
 */
export async function digestOn(
  device: BlockDevice,
  { offset, length }: Extent,
  into: Uint8Array,
  digest: Digest,
): Promise<Uint8Array> {
  if (await holdsNothing(device, { offset, length })) return zeroDigest(length)
  if (length <= into.length) return digestOfPart(device, { offset, length }, into, digest)
  const parts: PartDigest[] = []
  for (const part of partsOf({ offset, length }, into.length))
    parts.push({ length: part.length, digest: await digestOn(device, part, into, digest) })
  return joinedDigest(parts, digest)
}

export interface PartDigest {
  readonly length: number
  readonly digest: Uint8Array
}

/** The digest of a piece by those of its parts. */
export function joinedDigest(parts: readonly PartDigest[], digest: Digest): Uint8Array {
  const [first, ...others] = parts
  if (others.length === 0) return first.digest
  const zeros = parts.every((part) => sameBytes(part.digest, zeroDigest(part.length)))
  if (zeros) return zeroDigest(parts.reduce((sum, { length }) => sum + length, 0))
  return digest(concatBytes(parts.map((part) => part.digest))).subarray(0, KEPT_BYTES)
}

async function digestOfPart(
  device: BlockDevice,
  { offset, length }: Extent,
  into: Uint8Array,
  digest: Digest,
): Promise<Uint8Array> {
  const own = device.digests?.by === digest ? await device.digests.of(offset, length) : undefined
  if (own) return own
  const bytes = into.subarray(0, length)
  await device.read(offset, bytes)
  return pieceDigest(bytes, digest)
}

/** The device says that it reads as zeros there. */
export async function holdsNothing(device: BlockDevice, { offset, length }: Extent): Promise<boolean> {
  return (await device.mapped?.(offset, length))?.length === 0
}

export function zeroDigest(length: number): Uint8Array {
  const bytes = new Uint8Array(KEPT_BYTES)
  new DataView(bytes.buffer).setBigUint64(KEPT_BYTES - 8, BigInt(length))
  return bytes
}
