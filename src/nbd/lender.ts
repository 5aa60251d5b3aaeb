import { Mutex } from 'async-mutex'
import { setTimeout as pause } from 'node:timers/promises'
import { createServer, type AddressInfo, type Server, type Socket } from 'node:net'
import { createServer as createTlsServer, type TLSSocket } from 'node:tls'
import type { BlockDevice } from '@/core/block/device'
import type { Digest } from '@/core/digest'
import { BadStructure, CoreError } from '@/core/errors'
import { ConnectionLost, NotLent, ProtocolError } from './errors'
import { PSK_CIPHERS, type SharedKey } from './key'
import { listenToOptions } from './options'
import { roomForAll, serveRequests } from './serve'
import { Wire } from './wire'

/** Something that is lent, under its name. */
export interface LentExport {
  readonly name: string
  readonly description: string
  readonly device: BlockDevice
  readonly writable: boolean
  /** BLAKE3, by which it tells digests of ranges; without it, it tells none. */
  readonly digest?: Digest
}

/** One that has asked, and what it did so far. */
export interface Borrower {
  readonly id: number
  /** Where it asks from: an address. */
  readonly peer: string
  readonly since: number
  state: 'asks' | 'has it'
  readBytes: number
  writtenBytes: number
}

export type LenderEvent =
  | { readonly type: 'asks' | 'has it'; readonly borrower: Borrower }
  | { readonly type: 'refused'; readonly borrower: Borrower; readonly why: string }
  /** `done`: it said itself that it has all it wants. */
  | { readonly type: 'ended'; readonly borrower: Borrower; readonly why: string; readonly done: boolean }
  | { readonly type: 'wrong key'; readonly peer: string; readonly tries: number }

export interface LenderOptions {
  readonly host: string
  /** 0 takes one that is free. */
  readonly port: number
  /** Nothing is said without TLS by this key; where none is given, whoever reaches the port may ask. */
  readonly key?: SharedKey
  /**
   * Whether one that asks gets it. Nothing is read before it resolves. A yes holds for all connections from that address,
   * so that a lost one is taken up again without a question, until it is taken back.
   */
  readonly allow: (borrower: Borrower) => Promise<boolean>
  readonly onEvent?: (event: LenderEvent) => void
  /** Where nothing moves for so long although something is waited for, a connection ends. */
  readonly idleMs?: number
  /** Asking has to be done in this time, waiting for the yes left out. */
  readonly askMs?: number
}

/** Connections at once, whatever state they are in. */
const MOST_CONNECTIONS = 16
/** A wrong key makes the next try from the same address wait; each further one twice as long. */
const FIRST_WAIT_MS = 250
const LONGEST_WAIT_MS = 8_000
/** Addresses of which wrong keys are counted. */
const MOST_ADDRESSES = 256

interface Tries {
  wrong: number
  /** One try after the other. */
  readonly turn: Mutex
}

/** Lends a device to whoever has the key and gets a yes. */
export class Lender {
  private readonly server: Server
  private readonly connections = new Map<Socket, Borrower>()
  private readonly room = roomForAll()
  private readonly answers = new Map<string, Promise<boolean>>()
  private readonly tries = new Map<string, Tries>()
  private nextId = 1
  private wrongKeys = 0

  private constructor(
    readonly lent: LentExport,
    private readonly options: LenderOptions,
  ) {
    this.server = createServer({ keepAlive: true, keepAliveInitialDelay: 10_000 }, (socket) => void this.take(socket))
    this.server.maxConnections = MOST_CONNECTIONS
  }

  /** Listens. Rejects with CoreError where the address or port cannot be had. */
  static async listen(lent: LentExport, options: LenderOptions): Promise<Lender> {
    const lender = new Lender(lent, options)
    await new Promise<void>((done, failed) => {
      lender.server.once('error', (error: NodeJS.ErrnoException) =>
        failed(
          new CoreError(
            `Nobody can be listened for at ${options.host}, port ${options.port}: ${WHY[error.code ?? ''] ?? error.message}.`,
          ),
        ),
      )
      lender.server.listen({ host: options.host, port: options.port, exclusive: true }, done)
    })
    lender.server.on('error', () => {})
    return lender
  }

  get address(): { host: string; port: number } {
    const { address, port } = this.server.address() as AddressInfo
    return { host: address, port }
  }

  /** Those that are connected and have asked. */
  get borrowers(): readonly Borrower[] {
    return [...this.connections.values()]
  }

  /** Takes the yes to an address back: its connections end, and the next one asks. */
  takeBack(peer: string): void {
    this.answers.delete(peer)
    for (const [socket, borrower] of this.connections) if (borrower.peer === peer) socket.destroy()
  }

  /** The answer to an address; those that ask at once wait for one. */
  private async isAllowed(borrower: Borrower): Promise<boolean> {
    const { peer } = borrower
    const answer = this.answers.get(peer) ?? this.options.allow(borrower)
    this.answers.set(peer, answer)
    const isYes = await answer.catch(() => false)
    if (!isYes && this.answers.get(peer) === answer) this.answers.delete(peer)
    return isYes && this.answers.get(peer) === answer
  }

  /** Ends every connection, and listens no more. */
  async close(): Promise<void> {
    const closed = new Promise<void>((done) => this.server.close(() => done()))
    for (const socket of this.connections.keys()) socket.destroy()
    await closed
  }

  private async take(plain: Socket): Promise<void> {
    const { askMs = 10_000, idleMs = 60_000, key, onEvent } = this.options
    const borrower: Borrower = {
      ...{ id: this.nextId++, peer: plain.remoteAddress ?? 'nobody', since: Date.now() },
      ...{ state: 'asks' as const, readBytes: 0, writtenBytes: 0 },
    }
    this.connections.set(plain, borrower)
    let wire = new Wire(plain, askMs)
    const left = new Promise<never>((_, gone) => plain.once('close', () => gone(new ConnectionLost('it left'))))
    left.catch(() => {})
    let asked = false
    let why = 'It was ended.'
    let done = false
    // Whoever sends a byte now and then does not keep a place by that.
    const timer = setTimeout(() => wire.fail(new ConnectionLost('it took too long to ask')), 3 * askMs)
    try {
      const yes = async () => {
        clearTimeout(timer)
        asked = true
        onEvent?.({ type: 'asks', borrower })
        // Who leaves meanwhile asks no more.
        if (!(await Promise.race([this.isAllowed(borrower), left]))) throw new NotLent('It was not allowed.')
        borrower.state = 'has it'
        onEvent?.({ type: 'has it', borrower })
      }
      const secure =
        key && (async (before: Wire) => (wire = new Wire(await this.secured(before.release(), key), askMs)))
      const structured = await listenToOptions(wire, this.lent, { secure, yes })
      wire = new Wire(wire.release(), idleMs)
      await serveRequests(wire, this.lent, structured, borrower, this.room)
      why = 'It has what it wants.'
      done = true
    } catch (error) {
      why = error instanceof CoreError ? error.message : String(error)
      if (error instanceof BadStructure) why = new ProtocolError(error.why).message
    } finally {
      clearTimeout(timer)
      wire.finish()
      this.connections.delete(plain)
      if (asked && borrower.state === 'has it') onEvent?.({ type: 'ended', borrower, why, done })
      else if (asked) onEvent?.({ type: 'refused', borrower, why })
    }
  }

  /** TLS by the key, one try of an address after the other; each wrong one makes the next slower. */
  private async secured(socket: Socket, { identity, key }: SharedKey): Promise<TLSSocket> {
    const from = socket.remoteAddress ?? ''
    const tries = this.triesOf(from)
    return tries.turn.runExclusive(async () => {
      const wait = tries.wrong === 0 ? 0 : Math.min(LONGEST_WAIT_MS, FIRST_WAIT_MS * 2 ** (tries.wrong - 1))
      if (wait > 0) await pause(wait)
      try {
        return await this.handshake(socket, identity, key)
      } catch (error) {
        tries.wrong++
        this.wrongKeys++
        this.options.onEvent?.({ type: 'wrong key', peer: from, tries: this.wrongKeys })
        throw error
      }
    })
  }

  private triesOf(from: string): Tries {
    const found = this.tries.get(from) ?? { wrong: 0, turn: new Mutex() }
    // The one that asked longest ago goes first.
    this.tries.delete(from)
    this.tries.set(from, found)
    if (this.tries.size > MOST_ADDRESSES) this.tries.delete(this.tries.keys().next().value!)
    return found
  }

  private handshake(socket: Socket, identity: string, key: Buffer): Promise<TLSSocket> {
    return new Promise((done, failed) => {
      const fail = () => {
        socket.destroy()
        failed(new NotLent('It has another key.'))
      }
      const tls = createTlsServer({
        ciphers: PSK_CIPHERS,
        dhparam: 'auto',
        maxVersion: 'TLSv1.2',
        handshakeTimeout: this.options.askMs ?? 10_000,
        pskCallback: (_, asked) => (asked === identity ? key : null),
      })
      tls.once('secureConnection', done)
      tls.once('tlsClientError', fail)
      socket.once('close', fail)
      tls.emit('connection', socket)
    })
  }
}

const WHY: Readonly<Record<string, string>> = {
  EADDRINUSE: 'something else listens there',
  EADDRNOTAVAIL: 'this computer has no such address',
  EACCES: 'that needs more rights',
  ENOTFOUND: 'this computer has no such name',
}
