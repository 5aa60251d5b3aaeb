import { CoreError } from '@/core/errors'

// What only the kernel of this computer tells of a block device: `ioctl(2)`, numbered as Linux does.

/** Requests of <linux/fs.h>. */
const REQUEST = {
  sizeBytes: 0x80081272n,
  logicalSector: 0x1268n,
  physicalSector: 0x127bn,
  readOnly: 0x125en,
  dropCaches: 0x1261n,
  readTable: 0x125fn,
  sequence: 0x80081280n,
} as const

type Ioctl = (descriptor: number, request: bigint, argument: Uint8Array | null) => Promise<number>

let loaded: ReturnType<typeof load> | undefined

async function load() {
  if (process.platform !== 'linux') throw new CoreError('Drives of this computer are only reached on Linux.')
  const { default: koffi } = await import('koffi')
  const libc = koffi.load('libc.so.6')
  const call = libc.func('int ioctl(int descriptor, unsigned long request, _Inout_ uint8_t *argument)')
  const ioctl: Ioctl = (descriptor, request, argument) =>
    new Promise((done, failed) =>
      call.async(descriptor, request, argument, (error: Error | null, result: number) =>
        error ? failed(error) : done(result),
      ),
    )
  // Why a call failed is only told of one in this thread.
  const now = (descriptor: number, request: bigint): number => call(descriptor, request, null) as number
  const fallocate = libc.func('int fallocate(int descriptor, int mode, int64_t offset, int64_t length)')
  const zero = (descriptor: number, offset: number, length: number): number =>
    fallocate(descriptor, PUNCH_HOLE | KEEP_SIZE, offset, length) as number
  return { ioctl, now, zero, errno: () => koffi.errno() }
}

/** Asks the kernel. False where it refuses. Rejects with CoreError where it cannot be asked. */
async function ask(descriptor: number, request: bigint, argument: Uint8Array | null): Promise<boolean> {
  const { ioctl } = await (loaded ??= load())
  return (await ioctl(descriptor, request, argument)) === 0
}

async function number(descriptor: number, request: bigint, bytes: 4 | 8): Promise<number | undefined> {
  const into = Buffer.alloc(8)
  if (!(await ask(descriptor, request, into))) return undefined
  return bytes === 8 ? Number(into.readBigUInt64LE()) : into.readUInt32LE()
}

export interface DeviceSizes {
  readonly sizeBytes: number
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  readonly isReadOnly: boolean
}

/** Size and sectors of an open block device. Rejects with CoreError where it is none, or has sectors of another size. */
export async function sizesOf(descriptor: number, name: string): Promise<DeviceSizes> {
  const sizeBytes = await number(descriptor, REQUEST.sizeBytes, 8)
  const logical = await number(descriptor, REQUEST.logicalSector, 4)
  if (sizeBytes === undefined || logical === undefined) throw new CoreError(`${name} is no drive.`)
  if (logical !== 512 && logical !== 4096)
    throw new CoreError(`${name} has sectors of ${logical} bytes, and only those of 512 and 4096 are known here.`)
  const physical = (await number(descriptor, REQUEST.physicalSector, 4)) ?? logical
  const readOnly = await number(descriptor, REQUEST.readOnly, 4)
  return { sizeBytes, logicalSectorSize: logical, physicalSectorSize: physical, isReadOnly: readOnly === 1 }
}

/** The number that the kernel gives to one device alone since it was started; null where it gives none. */
export const sequenceOf = async (descriptor: number) => (await number(descriptor, REQUEST.sequence, 8)) ?? null

/** Lets go of what the kernel keeps of a device in memory: what is read next comes from the medium. */
export const dropCaches = (descriptor: number) => ask(descriptor, REQUEST.dropCaches, null)

/** Has the kernel read the partition table anew. False where it still uses the partitions of before. */
export async function readTableAgain(descriptor: number): Promise<boolean> {
  const { now, errno } = await (loaded ??= load())
  // One of which it takes no partitions has none that could be old.
  return now(descriptor, REQUEST.readTable) === 0 || errno() !== EBUSY
}

/**
 * Has a device forget a range, of which it gives zeros from then on: `fallocate(2)` does that only where the device
 * promises it. Gives the number of an error, or undefined.
 */
export async function forgetRange(descriptor: number, offset: number, length: number): Promise<number | undefined> {
  const { zero, errno } = await (loaded ??= load())
  return zero(descriptor, offset, length) === 0 ? undefined : errno()
}

/** Modes of <linux/falloc.h>. */
const KEEP_SIZE = 1
const PUNCH_HOLE = 2
/** Where a device does not do what was asked. */
export const NOT_DONE = [22, 38, 95]

const EBUSY = 16
