import { constants } from 'node:fs'
import { type FileHandle, open, stat } from 'node:fs/promises'
import path from 'node:path'
import { type BlockDevice, checkRange, DeviceGone, ReadOnlyDevice, UnreadableSectors } from '@/core/block/device'
import { CoreError, NotSupported } from '@/core/errors'
import type { SeenDevice } from '@/core/things/drive'
import { readFileBytes, writeFileBytes } from '../file-bytes'
import { driveOfNumber, type KernelDrive, numberOf, seenDevice, usesOf } from './describe'
import { type DeviceSizes, dropCaches, forgetRange, NOT_DONE, readTableAgain, sequenceOf, sizesOf } from './kernel'

/** Readings of so many bytes are tried past the kernel's memory where they fail through it. */
const DIRECT_BYTES = 64 * 1024
/** The kernel is asked for so much at a time, between which others have their turn. */
const FORGOTTEN_AT_ONCE = 256 * 1024 * 1024
/** Buffers of such readings begin at multiples of this many bytes of memory. */
const ALIGNED = 4096

/** Reads a drive past the kernel's memory. */
class DirectReader {
  private constructor(
    private readonly handle: FileHandle,
    private readonly buffer: Uint8Array,
  ) {}

  /** For the same open drive, whatever its name stands for by now. */
  static async of(device: FileHandle): Promise<DirectReader> {
    const handle = await open(`/proc/self/fd/${device.fd}`, constants.O_RDONLY | constants.O_DIRECT)
    const memory = new Uint8Array(DIRECT_BYTES + ALIGNED)
    // Where memory is aligned only the kernel tells; it refuses a buffer that is not.
    for (let from = 0; from < ALIGNED; from += 16) {
      const buffer = memory.subarray(from, from + DIRECT_BYTES)
      const isRefused = await handle.read(buffer, 0, ALIGNED, 0).then(
        () => false,
        (error: NodeJS.ErrnoException) => error.code === 'EINVAL',
      )
      if (!isRefused) return new DirectReader(handle, buffer)
    }
    await handle.close()
    throw new CoreError('This drive cannot be read past the memory of this computer.')
  }

  async read(offset: number, into: Uint8Array): Promise<number> {
    const { bytesRead } = await this.handle.read(this.buffer, 0, into.length, offset)
    into.set(this.buffer.subarray(0, bytesRead))
    return bytesRead
  }

  close(): Promise<void> {
    return this.handle.close()
  }
}

/** True for the path of a block device of this computer. */
export async function isDevicePath(file: string): Promise<boolean> {
  return stat(file).then(
    (found) => found.isBlockDevice(),
    () => false,
  )
}

/**
 * A drive of this computer, or a partition of one. For reading it is opened read-only; for writing exclusively, after
 * nothing was found that uses it. Who it is was asked of the open descriptor, whatever its name stands for by now.
 */
export class KernelDevice implements BlockDevice {
  readonly size: number
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  private direct: Promise<DirectReader> | undefined
  /** Only of a drive that promises zeros for what it was told to forget. */
  readonly discard?: (offset: number, length: number) => Promise<void>

  private constructor(
    private readonly handle: FileHandle,
    readonly path: string,
    /** `8:0` */
    readonly number: string,
    /** Of a whole drive; undefined for a partition. */
    readonly drive: KernelDrive | undefined,
    sizes: DeviceSizes,
    private readonly sequence: number | null,
    private readonly writable: boolean,
  ) {
    this.size = sizes.sizeBytes
    this.logicalSectorSize = sizes.logicalSectorSize
    this.physicalSectorSize = sizes.physicalSectorSize
    if (writable && drive?.forgets) this.discard = (offset, length) => this.forget(offset, length)
  }

  /**
   * Opens one for reading. Rejects with CoreError: no right to, none such, sectors that are not known; with DeviceGone where
   * it is not the one that is expected.
   */
  static async open(file: string, expected?: SeenDevice): Promise<KernelDevice> {
    const device = await KernelDevice.opened(file, constants.O_RDONLY, false)
    await device.insist(expected)
    return device
  }

  /** Opens a whole drive that nothing uses, to be written. Rejects like `open`, and with CoreError that names what uses it. */
  static async openTarget(file: string, expected?: SeenDevice): Promise<KernelDevice> {
    const device = await KernelDevice.opened(file, constants.O_RDWR | constants.O_EXCL, true)
    await device.insist(expected)
    try {
      const { drive } = device
      if (!drive) throw new CoreError(`${file} is a partition, and a target is a whole drive.`)
      const uses = await usesOf(drive)
      if (uses.length > 0) throw new CoreError(`${file} is in use: ${uses.join(', ')}. Nothing was written.`)
      return device
    } catch (error) {
      await device.close()
      throw error
    }
  }

  private static async opened(file: string, flags: number, writable: boolean): Promise<KernelDevice> {
    const handle = await open(file, flags).catch((error: NodeJS.ErrnoException) => refused(file, error))
    try {
      const found = await handle.stat()
      if (!found.isBlockDevice()) throw new CoreError(`${file} is no drive.`)
      const number = numberOf(found.rdev)
      const sizes = await sizesOf(handle.fd, path.basename(file))
      if (sizes.sizeBytes === 0) throw new CoreError(`${file} holds no medium.`)
      if (writable && sizes.isReadOnly)
        throw new CoreError(`${file} can only be read: the kernel has it write-protected.`)
      const drive = await driveOfNumber(number)
      return new KernelDevice(handle, file, number, drive, sizes, await sequenceOf(handle.fd), writable)
    } catch (error) {
      await handle.close()
      throw error
    }
  }

  /** Closes it and rejects with DeviceGone where another device has its path by now. */
  private async insist(expected: SeenDevice | undefined): Promise<void> {
    if (expected === undefined) return
    const { number, sequence, sizeBytes, serial } = expected
    const isOther = sequence !== null && this.sequence !== null && sequence !== this.sequence
    if (
      !isOther &&
      number === this.number &&
      sizeBytes === this.size &&
      serial === (this.drive ? seenDevice(this.drive).serial : null)
    )
      return
    await this.close()
    throw new DeviceGone(`What was ${this.path}`)
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    checkRange(this, offset, into.length)
    let done: number
    try {
      done = await readFileBytes(this.handle, offset, into)
    } catch (error) {
      const isShort = into.length <= DIRECT_BYTES
      if ((error as NodeJS.ErrnoException).code !== 'EIO' || !isShort)
        throw await this.mediumError(error, offset, into.length)
      // The kernel reads in pages, of which a drive may give some sectors and others not.
      done = await this.readDirect(offset, into).catch(async (again: unknown) => {
        throw await this.mediumError(again, offset, into.length)
      })
    }
    if (done < into.length) throw new CoreError(`${this.path} ends before its size says.`)
  }

  /** Past the memory of the kernel, in sectors of the drive. */
  private async readDirect(offset: number, into: Uint8Array): Promise<number> {
    this.direct ??= DirectReader.of(this.handle)
    return (await this.direct).read(offset, into)
  }

  async write(offset: number, from: Uint8Array): Promise<void> {
    if (!this.writable) throw new ReadOnlyDevice()
    checkRange(this, offset, from.length)
    await writeFileBytes(this.handle, offset, from).catch(async (error: NodeJS.ErrnoException) => {
      await this.refuseGone(error)
      if (error.code === 'EPERM' || error.code === 'EROFS')
        throw new CoreError(`${this.path} has become write-protected, and takes no more.`)
      throw new CoreError(`${this.path} did not take what was written to it (${error.code}).`)
    })
  }

  /** Rejects with NotSupported where the drive does not do what it promised. */
  private async forget(offset: number, length: number): Promise<void> {
    checkRange(this, offset, length)
    for (let at = offset; at < offset + length; at += FORGOTTEN_AT_ONCE) {
      const error = await forgetRange(this.handle.fd, at, Math.min(FORGOTTEN_AT_ONCE, offset + length - at))
      if (error === undefined) continue
      if (NOT_DONE.includes(error)) throw new NotSupported(`${this.path} does not forget what it holds.`)
      if (this.drive && !(await this.isStillThere())) throw new DeviceGone(this.path)
      throw new CoreError(`${this.path} did not forget what it holds (error ${error}).`)
    }
  }

  async flush(): Promise<void> {
    if (!this.writable) return
    await this.handle.sync().catch(async (error: NodeJS.ErrnoException) => {
      await this.refuseGone(error)
      throw new CoreError(`${this.path} did not store what was written to it (${error.code}).`)
    })
  }

  async uncache(): Promise<void> {
    if (!(await dropCaches(this.handle.fd)))
      throw new CoreError(`What is on ${this.path} cannot be read past the memory of this computer.`)
  }

  /** A path of this very drive for another program, whatever its own stands for by then, as long as it is open here. */
  get pathToSame(): string {
    return `/proc/${process.pid}/fd/${this.handle.fd}`
  }

  /** Has the kernel see the partitions that are there now. False where it still uses some of before. */
  readTable(): Promise<boolean> {
    return readTableAgain(this.handle.fd)
  }

  async close(): Promise<void> {
    await (await this.direct)?.close()
    await this.handle.close()
  }

  /** Rejects with DeviceGone where a failure came of that it is no longer plugged in. */
  private async refuseGone({ code }: NodeJS.ErrnoException): Promise<void> {
    // Of a drive that was pulled out the kernel says that, or that there was an error of it.
    const isGone = code === 'ENODEV' || code === 'ENXIO' || (this.drive && !(await this.isStillThere()))
    if (isGone) throw new DeviceGone(this.path)
  }

  private async isStillThere(): Promise<boolean> {
    const now = await driveOfNumber(this.number)
    return now !== undefined && (now.sequence === null || this.sequence === null || now.sequence === this.sequence)
  }

  /** A failed reading is told by the sectors of the drive. */
  private async mediumError(error: unknown, offset: number, length: number): Promise<unknown> {
    const { code } = error as NodeJS.ErrnoException
    await this.refuseGone(error as NodeJS.ErrnoException)
    if (code !== 'EIO') return error
    const first = offset / this.logicalSectorSize
    return new UnreadableSectors(Array.from({ length: length / this.logicalSectorSize }, (_, i) => first + i))
  }
}

function refused(file: string, { code }: NodeJS.ErrnoException): never {
  if (code === 'EACCES' || code === 'EPERM')
    throw new CoreError(
      `${file} may not be opened: that needs the rights of root, or of the group that has the drives.`,
    )
  if (code === 'EBUSY') throw new CoreError(`${file} is in use by the system or another program. Nothing was written.`)
  if (code === 'ENOMEDIUM' || code === 'ENXIO') throw new CoreError(`${file} holds no medium.`)
  if (code === 'ENOENT') throw new CoreError(`There is no ${file}.`)
  if (code === 'EROFS') throw new CoreError(`${file} can only be read: the kernel has it write-protected.`)
  throw new CoreError(`${file} could not be opened (${code}).`)
}
