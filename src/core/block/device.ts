import { allBytesAre } from '../bytes/same'
import type { Digest } from '../digest'
import { CoreError } from '../errors'

/** A run of bytes: both in bytes from the start of whatever it belongs to. */
export interface Extent {
  readonly offset: number
  readonly length: number
}

/** A run of bytes addressed like a drive. Offsets and lengths are bytes and must be whole logical sectors. */
export interface BlockDevice {
  readonly size: number
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  /** Fills `into` from `offset`. Rejects with UnreadableSectors, naming which, when the medium fails. */
  read(offset: number, into: Uint8Array): Promise<void>
  write(offset: number, from: Uint8Array): Promise<void>
  /** Makes everything written so far survive a power cut. */
  flush(): Promise<void>
  /** Tells the device that a range may be forgotten; it then reads as zeros. Absent where it can't. */
  discard?(offset: number, length: number): Promise<void>
  /**
   * The provisioning status of a range: the parts of it that may hold anything but zeros, in order and
   * without overlap. Everything else is guaranteed to read as zeros. Absent where the device can't tell.
   */
  mapped?(offset: number, length: number): Promise<readonly Extent[]>
  /** Lets go of what is kept of it in memory: what is read from now on comes from the medium. Absent where nothing is. */
  uncache?(): Promise<void>
  /** Digests of ranges that the device takes itself, so that their bytes need not come here. Absent where it takes none. */
  readonly digests?: OwnDigests
  /** Where a stretch lies on the device below, for one that has moved some of it. Absent where all lies where it did. */
  origins?(offset: number, length: number): Iterable<Origin>
}

export interface OwnDigests {
  /** The digest by which it takes them. */
  readonly by: Digest
  /** That of a range, in the form of `pieceDigest`; undefined where it does not tell it. Rejects with DeviceGone. */
  of(offset: number, length: number): Promise<Uint8Array | undefined>
}

/** A stretch of a device and where it lies on the one below. All in bytes. */
export interface Origin {
  readonly at: number
  readonly from: number
  readonly length: number
}

/** The offset or length is not a whole number of sectors, or lies outside the device. A fault of the caller. */
export class OutOfRange extends CoreError {
  override readonly name = 'OutOfRange'
  constructor(
    readonly offset: number,
    readonly length: number,
    readonly size: number,
  ) {
    super(`Bytes ${offset} to ${offset + length} are not whole sectors of a device of ${size} bytes.`)
  }
}

/** The medium did not give these sectors. Numbers are logical sectors of the device that was read. */
export class UnreadableSectors extends CoreError {
  override readonly name = 'UnreadableSectors'
  constructor(readonly sectors: readonly number[]) {
    super(`The drive could not read ${sectors.length === 1 ? `sector ${sectors[0]}` : `${sectors.length} sectors`}.`)
  }
}

/** For `catch`: what the medium does not give is undefined, any other error goes on. */
export function unreadableAsNothing(error: unknown): undefined {
  if (error instanceof UnreadableSectors) return undefined
  throw error
}

/** A write was attempted on a device that was opened for reading only. */
export class ReadOnlyDevice extends CoreError {
  override readonly name = 'ReadOnlyDevice'
  constructor() {
    super('This drive was opened for reading only, so nothing was written to it.')
  }
}

/** The device went away while it was in use. */
export class DeviceGone extends CoreError {
  override readonly name = 'DeviceGone'
  constructor(readonly what: string) {
    super(`${what} is no longer connected.`)
  }
}

/** Throws OutOfRange unless the range is whole sectors inside the device. */
export function checkRange(device: BlockDevice, offset: number, length: number): void {
  const sector = device.logicalSectorSize
  const whole = Number.isSafeInteger(offset) && offset % sector === 0 && length % sector === 0
  if (!whole || offset < 0 || length < 0 || offset + length > device.size) {
    throw new OutOfRange(offset, length, device.size)
  }
}

/** Reads any byte range, whole sectors or not. Throws OutOfRange beyond the device. */
export async function readBytes(device: BlockDevice, offset: number, length: number): Promise<Uint8Array> {
  if (offset < 0 || length < 0 || offset + length > device.size) throw new OutOfRange(offset, length, device.size)
  const sector = device.logicalSectorSize
  const start = Math.floor(offset / sector) * sector
  const end = Math.ceil((offset + length) / sector) * sector
  const bytes = new Uint8Array(end - start)
  await device.read(start, bytes)
  return bytes.subarray(offset - start, offset - start + length)
}

/** Fills `into` from any byte, whole sectors or not; whole ones are read in place. Throws OutOfRange beyond the device. */
export async function readInto(device: BlockDevice, offset: number, into: Uint8Array): Promise<void> {
  const sector = device.logicalSectorSize
  if (offset % sector === 0 && into.length % sector === 0) return device.read(offset, into)
  into.set(await readBytes(device, offset, into.length))
}

/** Writes any byte range; partial sectors at its ends are read first. */
export async function writeBytes(device: BlockDevice, offset: number, from: Uint8Array): Promise<void> {
  if (offset < 0 || offset + from.length > device.size) throw new OutOfRange(offset, from.length, device.size)
  const sector = device.logicalSectorSize
  const start = Math.floor(offset / sector) * sector
  const end = Math.ceil((offset + from.length) / sector) * sector
  if (start === offset && end === offset + from.length) return device.write(offset, from)
  const bytes = new Uint8Array(end - start)
  await device.read(start, bytes)
  bytes.set(from, offset - start)
  await device.write(start, bytes)
}

/** True when every byte is zero. */
export function isZero(bytes: Uint8Array): boolean {
  return allBytesAre(bytes, 0)
}
