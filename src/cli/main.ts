import { createInterface } from 'node:readline'
import { Stopped } from './commands'
import { runCommand, STOPPED } from './program'

/** Writes to standard output, waiting where a pipe is slow; a reader that went away ends the program quietly. */
function print(text: string | Uint8Array): Promise<void> {
  return new Promise((resolve, reject) => process.stdout.write(text, (error) => (error ? reject(error) : resolve())))
}

/** Somebody was asked, so the input is open, which would keep the program. */
let asks = false

/** Asks on standard error, and takes what comes on standard input line by line. */
function question(signal: AbortSignal) {
  let lines: AsyncIterator<string> | undefined
  return async (text: string): Promise<string | undefined> => {
    process.stderr.write(`${text} `)
    asks = true
    lines ??= createInterface({ input: process.stdin, signal })[Symbol.asyncIterator]()
    const next = await lines.next().catch(() => undefined)
    return next === undefined || next.done ? undefined : next.value
  }
}

const abort = new AbortController()
process.once('SIGINT', () => abort.abort(new Stopped()))
process.once('SIGTERM', () => abort.abort(new Stopped()))
process.stdout.on('error', (error: NodeJS.ErrnoException) => process.exit(error.code === 'EPIPE' ? 0 : STOPPED))

const io = {
  print,
  say: (text: string) => {
    if (process.stderr.isTTY) process.stderr.write(`\r${text} `)
  },
  warn: (text: string) => void process.stderr.write(`${text}\n`),
  tell: (progress: unknown) => void process.stderr.write(`${JSON.stringify({ progress })}\n`),
  ask: question(abort.signal),
  signal: abort.signal,
}
void runCommand(process.argv.slice(2), io).then((code) => {
  process.exitCode = code
  if (asks) process.stdin.unref()
})
