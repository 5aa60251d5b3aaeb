import type { Extent } from '@/core/block/device'
import { BadStructure, CoreError } from '@/core/errors'
import { ProtocolError } from './errors'
import { type Lent, type Negotiated, textOf } from './negotiate'
import {
  ALLOCATION_FLAG,
  CHUNK,
  CHUNK_DONE,
  CHUNK_HEADER,
  COMMAND,
  HOLE,
  isErrorChunk,
  REQUEST,
  REQUEST_MAGIC,
  SIMPLE_REPLY,
  SIMPLE_REPLY_MAGIC,
  STRUCTURED_REPLY_MAGIC,
} from './protocol'
import type { Wire } from './wire'

/** The other side could not do what was asked; the connection goes on. */
export class RequestFailed extends CoreError {
  override readonly name = 'RequestFailed'
  constructor(
    /** As in FAILURE. */
    readonly code: number,
    /** What it says of it; may be empty. */
    readonly says: string,
    /** The bytes that it names, from the start of what is lent; empty where it means the whole request. */
    readonly places: readonly number[],
  ) {
    super(`The other side refuses a request (${code})${says ? `: ${says}` : ''}.`)
  }
}

/** A stretch as the other side tells of it in a context. */
export interface Stretch extends Extent {
  readonly context: number
  readonly flags: number
}

export const isZeroStretch = ({ flags }: Stretch) => (flags & ALLOCATION_FLAG.zero) !== 0

export interface Request {
  readonly type: number
  readonly flags?: number
  readonly offset: number
  readonly length: number
  /** Where what is read goes. */
  readonly into?: Uint8Array
  /** What is written. */
  readonly payload?: Uint8Array
}

interface Pending extends Request {
  readonly filled: Extent[]
  readonly stretches: Stretch[]
  readonly places: number[]
  failure?: { code: number; says: string }
  readonly done: (stretches: readonly Stretch[]) => void
  readonly failed: (error: Error) => void
}

/** The least that a chunk of a reading is thought to hold, beside the few that may be shorter. */
const LEAST_CHUNK = 512
const SPARE_CHUNKS = 64
/** Longest answer about what is allocated, and longest text about an error. */
const MOST_STRETCHES = 256 * 1024
const MOST_TEXT = 4096

/** One connection after its negotiation: requests go out as they come, and each answer finds its own. */
export class Connection {
  readonly lent: Lent
  private readonly wire: Wire
  private readonly pending = new Map<bigint, Pending>()
  private cookie = 0n

  constructor({ wire, lent }: Negotiated) {
    this.wire = wire
    this.lent = lent
    void this.listen()
  }

  /** Sends a request. Resolves with what it tells of; rejects with RequestFailed, ConnectionLost or ProtocolError. */
  request(request: Request): Promise<readonly Stretch[]> {
    return new Promise((done, failed) => {
      const cookie = this.cookie++
      this.pending.set(cookie, { ...request, filled: [], stretches: [], places: [], done, failed })
      const header = new Uint8Array(REQUEST.size)
      const { type, flags = 0, offset, length, payload } = request
      REQUEST.write(header, { magic: REQUEST_MAGIC, flags, type, cookie, offset: BigInt(offset), length })
      this.wire.send(header, ...(payload ? [payload] : [])).catch((error: Error) => this.fail(error))
      // An answer is waited for from now on.
      this.wire.expect()
    })
  }

  /** Tells the other side that nothing more comes. */
  async end(): Promise<void> {
    const header = new Uint8Array(REQUEST.size)
    REQUEST.write(header, { magic: REQUEST_MAGIC, type: COMMAND.disconnect, cookie: this.cookie++ })
    await this.wire.send(header).catch(() => {})
    const { socket } = this.wire
    socket.end(() => socket.destroy())
  }

  private fail(error: Error): void {
    this.wire.fail(error)
    for (const { failed } of this.pending.values()) failed(error)
    this.pending.clear()
  }

  private async listen(): Promise<void> {
    try {
      for (;;) await this.reply()
    } catch (error) {
      this.fail(error instanceof BadStructure ? new ProtocolError(error.why) : (error as Error))
    }
  }

  private async reply(): Promise<void> {
    const start = new Uint8Array(SIMPLE_REPLY.size)
    await this.wire.read(start, this.pending.size === 0)
    const { magic, error, cookie } = SIMPLE_REPLY.read(start)
    if (magic === SIMPLE_REPLY_MAGIC) return this.simple(cookie, error)
    if (magic !== STRUCTURED_REPLY_MAGIC || !this.lent.structured) throw new ProtocolError('an answer of no known form')
    const rest = await this.wire.take(CHUNK_HEADER.size - SIMPLE_REPLY.size)
    await this.chunk(CHUNK_HEADER.read(Buffer.concat([start, rest])))
  }

  private known(cookie: bigint): Pending {
    const found = this.pending.get(cookie)
    if (!found) throw new ProtocolError('it answers something that was not asked')
    return found
  }

  private async simple(cookie: bigint, error: number): Promise<void> {
    const pending = this.known(cookie)
    if (pending.type === COMMAND.blockStatus && error === 0)
      throw new ProtocolError('no answer about what is allocated')
    if (error !== 0) pending.failure = { code: error, says: '' }
    else if (pending.into) {
      if (this.lent.structured) throw new ProtocolError('bytes in an answer that is not structured')
      await this.wire.read(pending.into)
      pending.filled.push({ offset: pending.offset, length: pending.length })
    }
    this.settle(cookie, pending)
  }

  private async chunk({ flags, type, cookie, length }: ReturnType<typeof CHUNK_HEADER.read>): Promise<void> {
    const pending = this.known(cookie)
    if (type === CHUNK.data) await this.data(pending, length)
    else if (type === CHUNK.hole) await this.hole(pending, length)
    else if (type === CHUNK.blockStatus) await this.stretches(pending, length)
    else if (isErrorChunk(type)) await this.error(pending, type, length)
    else if (type !== CHUNK.none || length !== 0) throw new ProtocolError(`a part of the kind ${type}`)
    if ((flags & CHUNK_DONE) !== 0) this.settle(cookie, pending)
  }

  private async data(pending: Pending, length: number): Promise<void> {
    if (length < 9 || length - 8 > pending.length) throw new ProtocolError('more bytes than were asked for')
    const offset = exact(await this.wire.take(8))
    await this.wire.read(this.placeIn(pending, offset, length - 8))
  }

  private async hole(pending: Pending, length: number): Promise<void> {
    if (length !== HOLE.size) throw new ProtocolError('a hole of no known form')
    const { offset, length: bytes } = HOLE.read(await this.wire.take(HOLE.size))
    this.placeIn(pending, numberOf(offset), bytes).fill(0)
  }

  private placeIn(pending: Pending, offset: number, length: number): Uint8Array {
    const from = offset - pending.offset
    if (!pending.into || length === 0 || from < 0 || from + length > pending.length)
      throw new ProtocolError('bytes that were not asked for')
    pending.filled.push({ offset, length })
    if (pending.filled.length > pending.length / LEAST_CHUNK + SPARE_CHUNKS)
      throw new ProtocolError('an answer in too many parts')
    return pending.into.subarray(from, from + length)
  }

  private async stretches(pending: Pending, length: number): Promise<void> {
    if (pending.type !== COMMAND.blockStatus) throw new ProtocolError('it tells what is allocated, which was not asked')
    if (length < 12 || (length - 4) % 8 !== 0 || length > MOST_STRETCHES)
      throw new ProtocolError('an answer about what is allocated that has no known form')
    const bytes = Buffer.from(await this.wire.take(length))
    const context = bytes.readUInt32BE(0)
    const { allocationId, digestIds } = this.lent
    if (context !== allocationId && !digestIds.includes(context))
      throw new ProtocolError('it tells of what was not asked')
    if (pending.stretches.some((s) => s.context === context)) throw new ProtocolError('it tells something twice')
    let offset = pending.offset
    for (let at = 4; at < length; at += 8) {
      const stretch = bytes.readUInt32BE(at)
      if (stretch === 0) throw new ProtocolError('a stretch without length')
      pending.stretches.push({ offset, length: stretch, context, flags: bytes.readUInt32BE(at + 4) })
      offset += stretch
    }
  }

  private async error(pending: Pending, type: number, length: number): Promise<void> {
    if (length < 6 || length > MOST_TEXT) throw new ProtocolError('an error of no known form')
    const bytes = Buffer.from(await this.wire.take(length))
    const code = bytes.readUInt32BE(0)
    const said = bytes.readUInt16BE(4)
    if (code === 0 || 6 + said > length) throw new ProtocolError('an error of no known form')
    pending.failure ??= { code, says: textOf(bytes.subarray(6, 6 + said)) }
    if (type !== CHUNK.errorOffset || 6 + said + 8 > length) return
    const place = exact(bytes.subarray(6 + said, 14 + said))
    if (place < pending.offset || place >= pending.offset + pending.length)
      throw new ProtocolError('an error at a place that was not asked for')
    pending.places.push(place)
    if (pending.places.length > pending.length / LEAST_CHUNK + SPARE_CHUNKS) throw new ProtocolError('too many errors')
  }

  private settle(cookie: bigint, pending: Pending): void {
    this.pending.delete(cookie)
    const { failure, places } = pending
    if (failure) return pending.failed(new RequestFailed(failure.code, failure.says, places))
    if (pending.into && !isWhole(pending.filled, pending)) throw this.lost(pending, 'an answer that is not whole')
    if (pending.type === COMMAND.blockStatus && pending.stretches.length === 0)
      throw this.lost(pending, 'no answer about what is allocated')
    pending.done(pending.stretches)
  }

  private lost(pending: Pending, what: string): ProtocolError {
    const error = new ProtocolError(what)
    pending.failed(error)
    return error
  }
}

/** Whether stretches fill a range, each byte once. */
function isWhole(filled: readonly Extent[], { offset, length }: Extent): boolean {
  let at = offset
  for (const part of filled.toSorted((a, b) => a.offset - b.offset)) {
    if (part.offset !== at) return false
    at += part.length
  }
  return at === offset + length
}

function numberOf(value: bigint): number {
  if (value > BigInt(Number.MAX_SAFE_INTEGER)) throw new ProtocolError('a place beyond any drive')
  return Number(value)
}

const exact = (bytes: Uint8Array) => numberOf(Buffer.from(bytes).readBigUInt64BE(0))
