import { Semaphore } from 'async-mutex'
import { type Extent, UnreadableSectors, DeviceGone, ReadOnlyDevice } from '@/core/block/device'
import { CoreError } from '@/core/errors'
import type { ImageFile } from '@/core/image'
import { type NbdAddress, nbdUri } from './address'
import { Connection, isZeroStretch, type Request, RequestFailed, type Stretch } from './connection'
import { ConnectionLost } from './errors'
import type { SharedKey } from './key'
import { type Lent, negotiate } from './negotiate'
import { COMMAND, COMMAND_FLAG, DEFAULT_MOST_BYTES, DIGEST_CONTEXTS, EXPORT_FLAG, FAILURE } from './protocol'

/** A request is not longer: some of them are underway at once, and none takes long over a slow link. */
const PIECE = 1024 * 1024
/** The longest range that is asked about at once, below what the field of its length holds. */
const MOST_ASKED = 2 ** 31
/** Requests underway at once. */
const UNDERWAY = 8
/** What is kept of what was written until it was flushed. */
const MOST_UNSURE = 32 * 1024 * 1024
/** Errors without a place are looked for in stretches of this many bytes, then sector by sector. */
const SEARCHED = 64 * 1024
/** Places of a file are told in sectors of this many bytes. */
const SECTOR = 512
/** What is asked when a connection is taken up again is answered in this time, or it is not there. */
const [LEAST_ASK_MS, MOST_ASK_MS] = [1000, 10_000]
/** So much is asked at once about what is allocated, and believed for so long. */
const WINDOW = 256 * 1024 * 1024
const WINDOW_MS = 5000
const BETWEEN_TRIES_MS = [100, 300, 1000, 2000]

export interface ClientOptions {
  readonly key?: SharedKey
  /** A connection over which nothing comes for so long is lost. */
  readonly idleMs?: number
  /** A lost connection is taken up again for so long; then what was asked for fails with DeviceGone. */
  readonly patienceMs?: number
  /** Told when the connection is lost and when it is there again. */
  readonly onLink?: (isThere: boolean) => void
  /** Fails where nobody has said yes yet, in place of waiting for it. */
  readonly now?: boolean
  /** Told when it was asked for, and nothing is missing but the yes. */
  readonly onAsked?: () => void
  /** Asks for digests of ranges in place of what is allocated. */
  readonly digests?: boolean
  /** Ends the asking at first. */
  readonly signal?: AbortSignal
}

interface Written {
  readonly offset: number
  readonly length: number
  /** Zeros where there are none. */
  readonly bytes?: Uint8Array
  /** The other side has it, safe or not. */
  isThere: boolean
}

/**
 * What another program lends, as a file of this one. Requests that a lost connection leaves without an answer are
 * asked again over the next. What was written and not flushed may be gone with a connection, so it is kept until it
 * is, and written again over the next one.
 */
export class NbdFile implements ImageFile {
  readonly size: number
  readonly isReadOnly: boolean
  /** What the lender says of it, in a line. */
  readonly description: string
  /** The same as it came, for programs. */
  readonly toldOfIt: string
  /** Whole blocks of this many bytes are read and written. */
  readonly minimumBytes: number
  readonly mapped?: (offset: number, length: number) => Promise<readonly Extent[]>
  private readonly lent: Lent
  private connection: Connection | undefined
  private connecting: Promise<Connection> | undefined
  private readonly underway = new Semaphore(UNDERWAY)
  /** What was written since the last flush, in order. */
  private unsure: Written[] = []
  private unsureBytes = 0
  private closed = false
  private digesting: Promise<NbdFile | undefined> | undefined
  /** What is allocated from a place on, as it was told last, over which connection. */
  private window:
    | { offset: number; at: number; of: Connection | undefined; extents: Promise<readonly Extent[]> }
    | undefined

  private constructor(
    readonly address: NbdAddress,
    private readonly options: ClientOptions,
    first: Connection,
  ) {
    this.connection = first
    this.lent = first.lent
    this.size = first.lent.size
    this.isReadOnly = (first.lent.flags & EXPORT_FLAG.readOnly) !== 0
    this.description = first.lent.description
    this.toldOfIt = first.lent.said
    this.minimumBytes = Math.max(1, first.lent.minimumBytes)
    if (first.lent.allocationId !== undefined)
      this.mapped = async (offset, length) =>
        this.isReadOnly ? this.seenMapped(offset, length) : this.askMapped(offset, length)
  }

  /** Connects, and waits until whoever lends it has said yes. Rejects with ConnectionLost, NotLent or ProtocolError. */
  static async open(address: NbdAddress, options: ClientOptions = {}): Promise<NbdFile> {
    return new NbdFile(address, options, await connectionTo(address, options, !options.now))
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    this.expectInside(offset, into.length)
    const unit = this.minimumBytes
    const start = offset - (offset % unit)
    const end = Math.min(this.size, Math.ceil((offset + into.length) / unit) * unit)
    if (start !== offset || end !== offset + into.length) {
      const bytes = new Uint8Array(end - start)
      await this.read(start, bytes)
      into.set(bytes.subarray(offset - start, offset - start + into.length))
      return
    }
    const bad = new Set<number>()
    await this.inPieces(offset, into, (at, part) => this.readPiece(at, part, bad))
    if (bad.size > 0) throw new UnreadableSectors([...bad].sort((a, b) => a - b))
  }

  private async readPiece(offset: number, into: Uint8Array, bad: Set<number>): Promise<void> {
    try {
      await this.ask({ type: COMMAND.read, offset, length: into.length, into })
    } catch (error) {
      if (!(error instanceof RequestFailed)) throw error
      if (error.code !== FAILURE.io) throw told(error)
      for (const place of error.places) bad.add(Math.floor(place / SECTOR))
      if (error.places.length > 0) return
      // It does not say where: the stretch is read again in shorter ones, down to a sector.
      const step = into.length > SEARCHED ? SEARCHED : Math.max(SECTOR, this.minimumBytes)
      if (into.length <= step) {
        for (let at = offset; at < offset + into.length; at += SECTOR) bad.add(Math.floor(at / SECTOR))
        return
      }
      for (let at = 0; at < into.length; at += step)
        await this.readPiece(offset + at, into.subarray(at, at + step), bad)
    }
  }

  async write(offset: number, from: Uint8Array): Promise<void> {
    if (this.isReadOnly) throw new ReadOnlyDevice()
    this.expectInside(offset, from.length)
    if (this.unsureBytes + from.length > MOST_UNSURE) await this.flush()
    const written: Written = { offset, length: from.length, bytes: from.slice(), isThere: false }
    this.unsure.push(written)
    this.unsureBytes += from.length
    await this.inPieces(offset, from, (at, payload) =>
      this.said(this.ask({ type: COMMAND.write, offset: at, length: payload.length, payload })).then(() => {}),
    )
    written.isThere = true
  }

  async flush(): Promise<void> {
    if (this.unsure.length === 0) return
    // What is still on its way is none that this flush makes sure.
    const covered = new Set(this.unsure.filter((one) => one.isThere))
    if ((this.lent.flags & EXPORT_FLAG.flush) !== 0)
      await this.said(this.ask({ type: COMMAND.flush, offset: 0, length: 0 }))
    this.unsure = this.unsure.filter((one) => !covered.has(one))
    for (const { bytes } of covered) this.unsureBytes -= bytes?.length ?? 0
  }

  /** Gives a range back, which then reads as zeros. False where the other side cannot. */
  async zero(offset: number, length: number): Promise<boolean> {
    if ((this.lent.flags & EXPORT_FLAG.writeZeroes) === 0) return false
    this.expectInside(offset, length)
    const written: Written = { offset, length, isThere: false }
    this.unsure.push(written)
    for (const part of this.zeroRequests(offset, length)) await this.said(this.ask(part))
    written.isThere = true
    return true
  }

  /**
   * The digest of a range as the other side reads it, which does not travel: that of `pieceDigest` by BLAKE3. Undefined
   * where the other side does not tell it, for this range or any. Rejects with DeviceGone.
   */
  async digestOf(offset: number, length: number): Promise<Uint8Array | undefined> {
    this.digesting ??= this.openForDigests()
    const other = await this.digesting
    if (!other || length > DEFAULT_MOST_BYTES) return undefined
    try {
      const flags = COMMAND_FLAG.requestOne
      const told = await other.ask({ type: COMMAND.blockStatus, flags, offset, length })
      const digest = Buffer.alloc(4 * DIGEST_CONTEXTS.length)
      for (const [i, id] of other.lent.digestIds.entries()) {
        const word = told.find((s) => s.context === id)
        if (word?.length !== length) return undefined
        digest.writeUInt32BE(word.flags, 4 * i)
      }
      return digest
    } catch (error) {
      // What it refuses is read, which tells why.
      if (error instanceof RequestFailed) return undefined
      throw error
    }
  }

  /** A connection that tells nothing but digests: with any other context each range would be read for nothing. */
  private async openForDigests(): Promise<NbdFile | undefined> {
    const options = { ...this.options, onLink: undefined, now: true, digests: true }
    const other = await NbdFile.open(this.address, options).catch(() => undefined)
    if (other?.lent.digestIds.length === DIGEST_CONTEXTS.length && other.size === this.size) return other
    await other?.close()
    return undefined
  }

  async close(): Promise<void> {
    this.closed = true
    await (await this.digesting)?.close()
    await this.connection?.end()
    this.connection = undefined
  }

  /** Carries a range out piece by piece, some of them at once. All have ended when it rejects. */
  private async inPieces(
    offset: number,
    bytes: Uint8Array,
    work: (offset: number, part: Uint8Array) => Promise<void>,
  ): Promise<void> {
    const step = this.stepBytes
    const pieces: Promise<void>[] = []
    for (let at = 0; at < bytes.length; at += step) pieces.push(work(offset + at, bytes.subarray(at, at + step)))
    const ends = await Promise.allSettled(pieces)
    const failed = ends.find((end) => end.status === 'rejected')
    if (failed) throw failed.reason
  }

  private async askMapped(offset: number, length: number): Promise<Extent[]> {
    const stretches = await this.status(offset, length)
    return stretches.filter((s) => !isZeroStretch(s)).map((s) => ({ offset: s.offset, length: s.length }))
  }

  /** Of what nobody writes a window is asked for at once, so that who goes through it piece by piece asks seldom. */
  private async seenMapped(offset: number, length: number): Promise<readonly Extent[]> {
    if (length >= WINDOW) return this.askMapped(offset, length)
    const now = performance.now()
    let { window } = this
    const isIn = window && offset >= window.offset && offset + length <= window.offset + WINDOW
    if (!window || !isIn || now - window.at > WINDOW_MS || window.of !== this.connection) {
      const extents = this.askMapped(offset, Math.min(WINDOW, this.size - offset))
      window = { offset, at: now, of: this.connection, extents }
      this.window = window
      extents.catch(() => (this.window = undefined))
    }
    const end = offset + length
    return (await window.extents).flatMap((extent) => {
      const from = Math.max(offset, extent.offset)
      const to = Math.min(end, extent.offset + extent.length)
      return to > from ? [{ offset: from, length: to - from }] : []
    })
  }

  private async status(offset: number, length: number): Promise<Stretch[]> {
    this.expectInside(offset, length)
    const found: Stretch[] = []
    const unit = this.minimumBytes
    const end = offset + length
    for (let at = offset - (offset % unit); at < end;) {
      const asked = Math.min(MOST_ASKED, Math.min(this.size, Math.ceil(end / unit) * unit) - at)
      const stretches = await this.said(this.ask({ type: COMMAND.blockStatus, offset: at, length: asked }))
      for (const stretch of stretches) {
        const from = Math.max(offset, stretch.offset)
        const to = Math.min(end, stretch.offset + stretch.length)
        const last = found.at(-1)
        if (to <= from) continue
        if (last && isZeroStretch(last) === isZeroStretch(stretch) && last.offset + last.length === from)
          found[found.length - 1] = { ...last, length: to - last.offset }
        else found.push({ ...stretch, offset: from, length: to - from })
      }
      const told = stretches.at(-1)!
      at = told.offset + told.length
    }
    return found
  }

  private async said<T>(answer: Promise<T>): Promise<T> {
    return answer.catch((error: unknown) => {
      throw error instanceof RequestFailed ? told(error) : error
    })
  }

  /** Asks once a place among those underway is free, and again over the next connection where this one is lost. */
  private ask(request: Request): Promise<readonly Stretch[]> {
    return this.underway.runExclusive(async () => {
      for (;;) {
        const connection = await this.connected()
        try {
          return await connection.request(request)
        } catch (error) {
          if (!(error instanceof ConnectionLost)) throw error
          this.drop(connection)
        }
      }
    })
  }

  private drop(connection: Connection): void {
    if (this.connection !== connection) return
    this.connection = undefined
    this.options.onLink?.(false)
  }

  private async connected(): Promise<Connection> {
    if (this.closed) throw new DeviceGone(`What ${nbdUri(this.address)} lends`)
    if (this.connection) return this.connection
    this.connecting ??= this.takeUp().finally(() => {
      this.connecting = undefined
    })
    return this.connecting
  }

  private async takeUp(): Promise<Connection> {
    const until = performance.now() + (this.options.patienceMs ?? 30_000)
    for (let tries = 0; !this.closed; tries++) {
      let connection: Connection | undefined
      try {
        const left = Math.max(LEAST_ASK_MS, Math.min(MOST_ASK_MS, until - performance.now()))
        connection = await connectionTo(this.address, this.options, false, left)
        const { size, flags } = connection.lent
        if (size !== this.size || flags !== this.lent.flags)
          throw new CoreError('Something else is lent under this name now.')
        await this.said(this.writeAgain(connection))
        if (this.closed) throw new DeviceGone(`What ${nbdUri(this.address)} lends`)
        this.connection = connection
        this.options.onLink?.(true)
        return connection
      } catch (error) {
        // One that is not gone on with is nobody's to end later.
        await connection?.end()
        if (!(error instanceof ConnectionLost)) throw error
        const pause = BETWEEN_TRIES_MS[Math.min(tries, BETWEEN_TRIES_MS.length - 1)]
        if (performance.now() + pause > until) break
        await new Promise((go) => setTimeout(go, pause))
      }
    }
    throw new DeviceGone(`What ${nbdUri(this.address)} lends`)
  }

  private async writeAgain(connection: Connection): Promise<void> {
    // Some more may come to it meanwhile.
    for (let i = 0; i < this.unsure.length; i++) {
      const { offset, length, bytes } = this.unsure[i]
      if (bytes) {
        const step = this.stepBytes
        for (let at = 0; at < length; at += step) {
          const payload = bytes.subarray(at, at + step)
          await connection.request({ type: COMMAND.write, offset: offset + at, length: payload.length, payload })
        }
      } else for (const part of this.zeroRequests(offset, length)) await connection.request(part)
    }
  }

  /** Bytes of one request: whole blocks of the other side. */
  private get stepBytes(): number {
    const most = Math.min(PIECE, this.lent.mostBytes)
    return most - (most % Math.max(SECTOR, this.minimumBytes))
  }

  private *zeroRequests(offset: number, length: number): Generator<Request> {
    const most = MOST_ASKED - (MOST_ASKED % Math.max(SECTOR, this.minimumBytes))
    for (let at = offset; at < offset + length; at += most)
      yield { type: COMMAND.writeZeroes, offset: at, length: Math.min(most, offset + length - at) }
  }

  private expectInside(offset: number, length: number): void {
    if (offset < 0 || length < 0 || offset + length > this.size)
      throw new RangeError(`Bytes ${offset} to ${offset + length} are not inside ${this.size} bytes.`)
  }
}

const connectionTo = async (
  address: NbdAddress,
  { key, idleMs = 30_000, onAsked, signal, digests }: ClientOptions,
  untilYes = false,
  askMs = MOST_ASK_MS,
) => new Connection(await negotiate(address, { key, idleMs, untilYes, askMs, onAsked, signal, digests }))

const WORDS: Readonly<Record<number, string>> = {
  [FAILURE.notPermitted]: 'it is lent for reading only',
  [FAILURE.noSpace]: 'there is no room left where it lies',
  [FAILURE.io]: 'its medium fails',
  [FAILURE.shutdown]: 'it is no longer lent',
}

/** A refusal in a sentence; that the other side ends is a lost connection like any other. */
function told({ code, says }: RequestFailed): CoreError {
  if (code === FAILURE.shutdown) return new ConnectionLost('the other side ends')
  return new CoreError(`The other side did not do it: ${WORDS[code] ?? (says || `error ${code}`)}.`)
}
