import { Worker } from 'node:worker_threads'

/** So many writes can be under way at once: a copy onto several drives waits for the slowest, and not for their sum. */
const MOST_THREADS = 4

/** Bytes of memory that threads share, written by one of them. `length`: of one call, which ends at a multiple of it. */
interface Order {
  readonly descriptor: number
  readonly offset: number
  readonly bytes: Uint8Array
  readonly length: number
}

type Answer = { readonly ok: true } | { readonly ok: false; readonly code?: string; readonly message: string }

// A text, since whoever bundles this program would not find a file. Each call is waited for where it is made: handing
// every one of them to the host's pool and back takes as long again as the writing.
const THREAD = `
  const { parentPort } = require('node:worker_threads')
  const { writeSync } = require('node:fs')
  parentPort.on('message', ({ descriptor, offset, bytes, length }) => {
    try {
      for (let done = 0; done < bytes.length; ) {
        const most = length - ((offset + done) % length)
        done += writeSync(descriptor, bytes, done, Math.min(most, bytes.length - done), offset + done)
      }
      parentPort.postMessage({ ok: true })
    } catch ({ code, message }) {
      parentPort.postMessage({ ok: false, code, message })
    }
  })`

/** A thread, and who waits for the write that it does. */
class Writer {
  private settle: ((answer: Answer) => void) | undefined
  ended = false
  private readonly thread = new Worker(THREAD, { eval: true, execArgv: [] })

  constructor() {
    this.thread.on('message', (answer: Answer) => this.settle?.(answer))
    this.thread.on('error', ({ message }: Error) => this.end(message))
    this.thread.on('exit', () => this.end('A thread that writes has ended.'))
    // It is not what keeps the program going.
    this.thread.unref()
  }

  async write(order: Order): Promise<void> {
    const answer = await new Promise<Answer>((resolve) => {
      this.settle = resolve
      if (this.ended) return this.end('A thread that writes has ended.')
      // Until it has answered there is something to wait for.
      this.thread.ref()
      this.thread.postMessage(order)
    }).finally(() => this.thread.unref())
    if (!answer.ok) throw Object.assign(new Error(answer.message), { code: answer.code })
  }

  private end(message: string): void {
    this.ended = true
    this.settle?.({ ok: false, message })
  }
}

const idle: Writer[] = []
const waiting: (() => void)[] = []
let made = 0

/** Has a thread write all of some shared bytes. Rejects as the host does, with part of it written. */
export async function writeByThread(order: Order): Promise<void> {
  while (idle.length === 0 && made >= MOST_THREADS) await new Promise<void>((resolve) => waiting.push(resolve))
  const writer = idle.pop() ?? newWriter()
  try {
    await writer.write(order)
  } finally {
    if (writer.ended) made--
    else idle.push(writer)
    waiting.shift()?.()
  }
}

function newWriter(): Writer {
  made++
  return new Writer()
}
