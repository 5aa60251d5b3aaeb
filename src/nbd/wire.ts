import type { Socket } from 'node:net'
import { ConnectionLost } from './errors'

/** So much may come in before somebody asks for it; the other side then waits. */
const MOST_AHEAD = 1024 * 1024

interface Wanted {
  readonly into: Uint8Array
  at: number
  /** Nothing has to come at all; what has begun has to go on. */
  patient: boolean
  readonly done: () => void
  readonly failed: (error: Error) => void
}

/** A connection as a stream of exact numbers of bytes. One reading at a time. */
export class Wire {
  private readonly chunks: Uint8Array[] = []
  /** Bytes in `chunks` that nobody has asked for. */
  private ahead = 0
  private wanted: Wanted | undefined
  private failure: Error | undefined
  /** Those that wait until the other side takes more. */
  private readonly waiting: (() => void)[] = []
  private readonly timer: NodeJS.Timeout
  /** Bytes of both directions when it was last looked whether anything moves. */
  private moved = 0

  /** Where nothing moves for `idleMs` although something is waited for, the connection counts as lost. */
  constructor(
    readonly socket: Socket,
    idleMs: number,
  ) {
    socket.setNoDelay(true)
    socket.on('data', this.onData)
    socket.resume()
    socket.on('error', this.onError)
    socket.on('close', this.onClose)
    socket.on('drain', this.onDrain)
    this.timer = setInterval(() => this.look(), idleMs).unref()
  }

  private look(): void {
    const { bytesRead, bytesWritten, writableLength } = this.socket
    const before = this.moved
    this.moved = bytesRead + bytesWritten - writableLength
    const waits = (this.wanted && !(this.wanted.patient && this.wanted.at === 0)) || writableLength > 0
    if (waits && this.moved === before) this.fail(new ConnectionLost('nothing came over it'))
  }

  private readonly onData = (chunk: Uint8Array) => {
    let rest = chunk
    if (this.wanted && this.ahead === 0) rest = this.give(rest)
    if (rest.length === 0) return
    this.chunks.push(rest)
    this.ahead += rest.length
    if (this.ahead > MOST_AHEAD) this.socket.pause()
  }

  /** Hands bytes to whoever waits for them. Returns those that are left. */
  private give(bytes: Uint8Array): Uint8Array {
    const wanted = this.wanted!
    const part = bytes.subarray(0, wanted.into.length - wanted.at)
    wanted.into.set(part, wanted.at)
    wanted.at += part.length
    if (wanted.at === wanted.into.length) {
      this.wanted = undefined
      wanted.done()
    }
    return bytes.subarray(part.length)
  }

  private readonly onError = (error: Error) => this.fail(new ConnectionLost(error.message))
  private readonly onClose = () => this.fail(new ConnectionLost('the other side ended it'))

  private readonly onDrain = () => {
    for (const go of this.waiting.splice(0)) go()
  }

  /** Fills `into` with what comes next, which may never begin where `patient` says so. Rejects with ConnectionLost. */
  read(into: Uint8Array, patient = false): Promise<void> {
    if (this.wanted) throw new RangeError('Somebody reads from this connection already.')
    return new Promise((done, failed) => {
      this.wanted = { into, at: 0, patient, done, failed }
      if (into.length === 0) this.give(into)
      while (this.wanted && this.chunks.length > 0) {
        const first = this.chunks[0]
        const rest = this.give(first)
        this.ahead -= first.length - rest.length
        if (rest.length > 0) this.chunks[0] = rest
        else this.chunks.shift()
      }
      if (!this.wanted) return
      if (this.failure) {
        this.wanted = undefined
        failed(this.failure)
      } else this.socket.resume()
    })
  }

  /** What is waited for has to come from now on. */
  expect(): void {
    if (this.wanted) this.wanted.patient = false
  }

  async take(length: number): Promise<Uint8Array> {
    const bytes = new Uint8Array(length)
    await this.read(bytes)
    return bytes
  }

  /** Sends bytes, and waits where the other side does not take them. Rejects with ConnectionLost. */
  async send(...parts: readonly Uint8Array[]): Promise<void> {
    if (this.failure) throw this.failure
    this.socket.cork()
    let flows = true
    for (const part of parts) flows = this.socket.write(part)
    this.socket.uncork()
    if (flows) return
    await new Promise<void>((go) => this.waiting.push(go))
    if (this.failure) throw this.failure
  }

  /** Lets go of the socket for one that goes through it. Throws ConnectionLost where something came before that. */
  release(): Socket {
    if (this.ahead > 0 || this.failure) {
      const why = this.failure ?? new ConnectionLost('more came over it than was asked for')
      this.fail(why)
      throw why
    }
    clearInterval(this.timer)
    // What comes before somebody else listens is kept.
    this.socket.pause()
    this.socket.off('data', this.onData)
    this.socket.off('error', this.onError)
    this.socket.off('close', this.onClose)
    this.socket.off('drain', this.onDrain)
    return this.socket
  }

  /** Ends the connection once what was said has gone out, where the other side takes it soon. */
  finish(): void {
    clearInterval(this.timer)
    this.failure ??= new ConnectionLost('it was ended')
    const { socket } = this
    setTimeout(() => socket.destroy(), 5000).unref()
    socket.destroySoon()
    this.onDrain()
  }

  /** Ends the connection; whoever waits for something of it hears why. */
  fail(error: Error): void {
    this.failure ??= error
    clearInterval(this.timer)
    this.socket.destroy()
    this.wanted?.failed(this.failure)
    this.wanted = undefined
    this.chunks.length = 0
    this.ahead = 0
    this.onDrain()
  }
}
