import { Semaphore } from 'async-mutex'
import { type BlockDevice, type Extent, readInto, UnreadableSectors } from '@/core/block/device'
import { MIB } from '@/core/bytes/size'
import { pieceDigest } from '@/core/copy/piece-digests'
import type { Digest } from '@/core/digest'
import { CoreError } from '@/core/errors'
import { ProtocolError } from './errors'
import type { Borrower, LentExport } from './lender'
import { ALLOCATION_ID, type Agreed, DIGEST_ID } from './options'
import {
  ALLOCATION_FLAG,
  CHUNK,
  CHUNK_DONE,
  CHUNK_HEADER,
  COMMAND,
  COMMAND_FLAG,
  DEFAULT_MOST_BYTES,
  FAILURE,
  HOLE,
  REQUEST,
  REQUEST_MAGIC,
  SIMPLE_REPLY,
  SIMPLE_REPLY_MAGIC,
  STRUCTURED_REPLY_MAGIC,
} from './protocol'
import type { Wire } from './wire'

/** Requests of one connection that are worked on at once. */
const MOST_UNDERWAY = 16
/** Mebibytes that the requests of all connections may hold together; the longest request is half of that. */
const MOST_HELD = (2 * DEFAULT_MOST_BYTES) / MIB
/** Stretches in one answer; whoever asked for more asks again. */
const MOST_STRETCHES = 4096
/** Bad sectors that one answer names. */
const MOST_PLACES = 1024
/** Shorter reads are not asked for their holes. */
const WORTH_ASKING = 64 * 1024

type Asked = ReturnType<typeof REQUEST.read>

interface Request {
  readonly asked: Asked
  readonly offset: number
  readonly payload: Uint8Array | undefined
}

/** Room for what all who borrow from one lender are given, in whole mebibytes: its steps are counted one by one. */
export const roomForAll = () => new Semaphore(MOST_HELD)

/** Carries out what one borrower asks until it says that it is done. Rejects where the connection is lost. */
export async function serveRequests(
  wire: Wire,
  { device, writable, digest }: LentExport,
  agreed: Omit<Agreed, 'wire'>,
  borrower: Borrower,
  room: Semaphore,
): Promise<void> {
  const desk = new Semaphore(MOST_UNDERWAY)
  const serving = new Serving(wire, device, writable, agreed, borrower, digest)
  let failure: Error | undefined
  for (;;) {
    const header = new Uint8Array(REQUEST.size)
    await wire.read(header, true)
    const asked = REQUEST.read(header)
    if (asked.magic !== REQUEST_MAGIC) throw new ProtocolError('a request of no known form')
    if (asked.type === COMMAND.disconnect) {
      // All that it asked for has ended then.
      await desk.acquire(MOST_UNDERWAY)
      return
    }
    const carries = asked.type === COMMAND.write
    if (carries && asked.length > DEFAULT_MOST_BYTES) throw new ProtocolError(`${asked.length} bytes in one request`)
    const isDigest = asked.type === COMMAND.blockStatus && agreed.digestWords.length > 0
    const holds = carries || isDigest || asked.type === COMMAND.read ? Math.min(asked.length, DEFAULT_MOST_BYTES) : 0
    const [, leaveDesk] = await desk.acquire()
    const [, leaveRoom] = await room.acquire(Math.max(1, Math.ceil(holds / MIB)))
    const leave = () => {
      leaveRoom()
      leaveDesk()
    }
    try {
      if (failure) throw failure
      const payload = carries ? await wire.take(asked.length) : undefined
      serving
        .carryOut(asked, payload)
        .catch((error: Error) => {
          failure = error
          wire.fail(error)
        })
        .finally(leave)
    } catch (error) {
      leave()
      throw error
    }
  }
}

class Serving {
  constructor(
    private readonly wire: Wire,
    private readonly device: BlockDevice,
    private readonly writable: boolean,
    private readonly agreed: Omit<Agreed, 'wire'>,
    private readonly borrower: Borrower,
    private readonly digest: Digest | undefined,
  ) {}

  async carryOut(asked: Asked, payload: Uint8Array | undefined): Promise<void> {
    const why = this.whyNot(asked)
    if (why !== undefined) return this.refuse(asked, why)
    const request = { asked, offset: Number(asked.offset), payload }
    try {
      await this.work(request)
    } catch (error) {
      if (error instanceof UnreadableSectors) return this.unreadable(request, error.sectors)
      return this.refuse(asked, codeOf(error))
    }
  }

  /** What of a request is out of order, as a code. */
  private whyNot({ type, flags, offset, length }: Asked): number | undefined {
    const changes = type === COMMAND.write || type === COMMAND.trim || type === COMMAND.writeZeroes
    if (changes && !this.writable) return FAILURE.notPermitted
    const isKnown = changes || type === COMMAND.read || type === COMMAND.flush || type === COMMAND.blockStatus
    if (!isKnown || (flags & ~KNOWN_FLAGS) !== 0) return FAILURE.invalid
    if (type === COMMAND.flush) return offset === 0n && length === 0 ? undefined : FAILURE.invalid
    if (length === 0) return FAILURE.invalid
    if (offset + BigInt(length) > BigInt(this.device.size)) return changes ? FAILURE.noSpace : FAILURE.invalid
    if (type === COMMAND.read && length > DEFAULT_MOST_BYTES) return FAILURE.overflow
    const { tellsAllocation, digestWords } = this.agreed
    if (type === COMMAND.blockStatus && !tellsAllocation && digestWords.length === 0) return FAILURE.invalid
    if (type === COMMAND.blockStatus && digestWords.length > 0 && length > DEFAULT_MOST_BYTES) return FAILURE.overflow
    const sector = BigInt(this.device.logicalSectorSize)
    if (changes && (offset % sector !== 0n || BigInt(length) % sector !== 0n)) return FAILURE.invalid
    return undefined
  }

  private async work(request: Request): Promise<void> {
    const { device } = this
    const { asked, offset, payload } = request
    const { type, flags, length } = asked
    if (type === COMMAND.read) return this.read(request)
    if (type === COMMAND.blockStatus) return this.blockStatus(request)
    if (type === COMMAND.write) {
      await device.write(offset, payload!)
      this.borrower.writtenBytes += length
    } else if (type === COMMAND.trim) await this.forget(offset, length)
    else if (type === COMMAND.writeZeroes) await this.zero(offset, length, (flags & COMMAND_FLAG.noHole) !== 0)
    if (type === COMMAND.flush || (flags & COMMAND_FLAG.fua) !== 0) await device.flush()
    await this.done(asked)
  }

  /** False where the device cannot forget the range; some can only part with their end. */
  private async forget(offset: number, length: number): Promise<boolean> {
    try {
      await this.device.discard?.(offset, length)
      return this.device.discard !== undefined
    } catch (error) {
      if (error instanceof CoreError) return false
      throw error
    }
  }

  private async zero(offset: number, length: number, noHole: boolean): Promise<void> {
    if (!noHole && (await this.forget(offset, length))) return
    const zeros = new Uint8Array(Math.min(MIB, length))
    for (let at = 0; at < length; at += zeros.length)
      await this.device.write(offset + at, zeros.subarray(0, Math.min(zeros.length, length - at)))
  }

  private async read(request: Request): Promise<void> {
    const { asked, offset } = request
    const { length } = asked
    const { device } = this
    const asOne = (asked.flags & COMMAND_FLAG.dontFragment) !== 0
    if (this.agreed.structured && device.mapped && !asOne && length >= WORTH_ASKING) {
      const sector = device.logicalSectorSize
      const from = offset - (offset % sector)
      const to = Math.ceil((offset + length) / sector) * sector
      const mapped = (await device.mapped(from, to - from)).filter(({ length: l }) => l > 0)
      const whole = mapped.length === 1 && mapped[0].offset <= offset && endOf(mapped[0]) >= offset + length
      // Whoever scatters a stretch into many parts makes it slower, not quicker.
      if (!whole && mapped.length <= 64) return this.readParts(request, mapped)
    }
    const bytes = new Uint8Array(length)
    await readInto(device, offset, bytes)
    this.borrower.readBytes += length
    if (this.agreed.structured) await this.chunk(asked, CHUNK.data, CHUNK_DONE, u64(asked.offset), bytes)
    else await this.wire.send(simpleReply(asked, 0), bytes)
  }

  private async readParts({ asked, offset }: Request, mapped: readonly Extent[]): Promise<void> {
    const parts = partsOf(offset, asked.length, mapped)
    // Everything is read before anything is said: an error then stands alone.
    const read: { at: number; length: number; bytes?: Uint8Array }[] = []
    for (const part of parts) {
      if (part.isZero) read.push({ at: part.offset, length: part.length })
      else {
        const bytes = new Uint8Array(part.length)
        await readInto(this.device, part.offset, bytes)
        this.borrower.readBytes += part.length
        read.push({ at: part.offset, length: part.length, bytes })
      }
    }
    for (const [i, { at, length, bytes }] of read.entries()) {
      const flags = i === read.length - 1 ? CHUNK_DONE : 0
      if (bytes) await this.chunk(asked, CHUNK.data, flags, u64(BigInt(at)), bytes)
      else {
        const hole = new Uint8Array(HOLE.size)
        HOLE.write(hole, { offset: BigInt(at), length })
        await this.chunk(asked, CHUNK.hole, flags, hole)
      }
    }
  }

  private async blockStatus(request: Request): Promise<void> {
    const { asked } = request
    const told = [
      ...(this.agreed.tellsAllocation ? [await this.allocation(request)] : []),
      ...(await this.digestWords(request)),
    ]
    for (const [i, bytes] of told.entries())
      await this.chunk(asked, CHUNK.blockStatus, i === told.length - 1 ? CHUNK_DONE : 0, bytes)
  }

  private async allocation({ asked, offset }: Request): Promise<Uint8Array> {
    const { device } = this
    const sector = device.logicalSectorSize
    const from = offset - (offset % sector)
    const to = Math.min(device.size, Math.ceil((offset + asked.length) / sector) * sector)
    const mapped = (await device.mapped?.(from, to - from)) ?? [{ offset: from, length: to - from }]
    const most = (asked.flags & COMMAND_FLAG.requestOne) !== 0 ? 1 : MOST_STRETCHES
    const parts = partsOf(offset, asked.length, mapped).slice(0, most)
    return statusOf(
      ALLOCATION_ID,
      parts.map(({ length, isZero }) => [length, isZero ? ALLOCATION_FLAG.hole | ALLOCATION_FLAG.zero : 0]),
    )
  }

  /** The digest of the range, as it is read now, in the words that were agreed. */
  private async digestWords({ asked, offset }: Request): Promise<Uint8Array[]> {
    const { digestWords } = this.agreed
    if (digestWords.length === 0 || !this.digest) return []
    const bytes = new Uint8Array(asked.length)
    await readInto(this.device, offset, bytes)
    const digest = Buffer.from(pieceDigest(bytes, this.digest))
    return digestWords.map((word) => statusOf(DIGEST_ID + word, [[asked.length, digest.readUInt32BE(4 * word)]]))
  }

  /** Sectors that the medium does not give, each by its place. */
  private async unreadable({ asked, offset }: Request, sectors: readonly number[]): Promise<void> {
    const sector = this.device.logicalSectorSize
    const places = sectors
      .map((s) => Math.max(offset, s * sector))
      .filter((place) => place < offset + asked.length)
      .slice(0, MOST_PLACES)
    if (!this.agreed.structured || places.length === 0) return this.refuse(asked, FAILURE.io)
    for (const [i, place] of places.entries())
      await this.chunk(
        asked,
        CHUNK.errorOffset,
        i === places.length - 1 ? CHUNK_DONE : 0,
        errorText(FAILURE.io),
        u64(BigInt(place)),
      )
  }

  private async refuse(asked: Asked, code: number): Promise<void> {
    if (this.agreed.structured) await this.chunk(asked, CHUNK.error, CHUNK_DONE, errorText(code))
    else await this.wire.send(simpleReply(asked, code))
  }

  private async done(asked: Asked): Promise<void> {
    await this.wire.send(simpleReply(asked, 0))
  }

  private chunk({ cookie }: Asked, type: number, flags: number, ...parts: readonly Uint8Array[]): Promise<void> {
    const header = new Uint8Array(CHUNK_HEADER.size)
    const length = parts.reduce((sum, part) => sum + part.length, 0)
    CHUNK_HEADER.write(header, { magic: STRUCTURED_REPLY_MAGIC, flags, type, cookie, length })
    return this.wire.send(header, ...parts)
  }
}

/** Stretches of a context, each with its length and its flags. */
function statusOf(context: number, stretches: readonly (readonly [number, number])[]): Uint8Array {
  const bytes = Buffer.alloc(4 + 8 * stretches.length)
  bytes.writeUInt32BE(context, 0)
  for (const [i, [length, flags]] of stretches.entries()) {
    bytes.writeUInt32BE(length, 4 + 8 * i)
    bytes.writeUInt32BE(flags, 8 + 8 * i)
  }
  return bytes
}

const KNOWN_FLAGS = COMMAND_FLAG.fua | COMMAND_FLAG.noHole | COMMAND_FLAG.dontFragment | COMMAND_FLAG.requestOne

const endOf = ({ offset, length }: Extent) => offset + length

/** A range in stretches that may hold something and those that read as zeros, in order, without a gap. */
function partsOf(offset: number, length: number, mapped: readonly Extent[]): (Extent & { isZero: boolean })[] {
  const parts: (Extent & { isZero: boolean })[] = []
  const end = offset + length
  let at = offset
  for (const extent of mapped) {
    const from = Math.max(at, extent.offset)
    const to = Math.min(end, endOf(extent))
    if (to <= from) continue
    if (from > at) parts.push({ offset: at, length: from - at, isZero: true })
    parts.push({ offset: from, length: to - from, isZero: false })
    at = to
  }
  if (at < end) parts.push({ offset: at, length: end - at, isZero: true })
  return parts
}

function codeOf(error: unknown): number {
  const code = (error as NodeJS.ErrnoException | undefined)?.code
  if (code === 'ENOSPC' || code === 'EDQUOT') return FAILURE.noSpace
  if (code === 'EROFS' || code === 'EACCES') return FAILURE.notPermitted
  return FAILURE.io
}

function simpleReply({ cookie }: Asked, error: number): Uint8Array {
  const bytes = new Uint8Array(SIMPLE_REPLY.size)
  SIMPLE_REPLY.write(bytes, { magic: SIMPLE_REPLY_MAGIC, error, cookie })
  return bytes
}

function errorText(code: number): Uint8Array {
  const bytes = Buffer.alloc(6)
  bytes.writeUInt32BE(code, 0)
  return bytes
}

function u64(value: bigint): Uint8Array {
  const bytes = Buffer.alloc(8)
  bytes.writeBigUInt64BE(value)
  return bytes
}
