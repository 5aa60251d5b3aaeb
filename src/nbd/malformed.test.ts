import fc from 'fast-check'
import { createHash } from 'node:crypto'
import { connect, createServer, type AddressInfo, type Socket } from 'node:net'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { MemoryDevice } from '@/core/block/memory'
import { CoreError } from '@/core/errors'
import { pattern, runsOf } from '@/core/testing'
import { NbdFile } from './client'
import { Connection } from './connection'
import type { Lender } from './lender'
import { negotiate } from './negotiate'
import { COMMAND, COMMAND_FLAG } from './protocol'
import { addressOf, lentHere } from './testing'

const SIZE = 256 * 1024

interface Said {
  readonly by: 'client' | 'server'
  readonly bytes: Buffer
}

let lender: Lender
let device: MemoryDevice
/** Whole sessions as both sides said them, from the greeting to the end: one that reads and writes, one for digests. */
const sessions = new Map<boolean, Said[]>()

beforeAll(async () => {
  device = new MemoryDevice(SIZE)
  await device.write(64 * 1024, pattern(8192, 5))
  const digest = (bytes: Uint8Array) => createHash('sha256').update(bytes).digest()
  ;({ lender } = await lentHere(device, { askMs: 2000, digest }))
  for (const digests of [false, true]) sessions.set(digests, await recorded(lender.address.port, digests))
})

afterAll(() => lender.close())

/** What goes to and fro where a client reads, asks for holes, writes, clears and flushes. */
async function recorded(port: number, digests: boolean): Promise<Said[]> {
  const said: Said[] = []
  const proxy = createServer((near) => {
    const far = connect({ port, host: '127.0.0.1' })
    near.on('data', (bytes) => {
      said.push({ by: 'client', bytes })
      far.write(bytes)
    })
    far.on('data', (bytes) => {
      said.push({ by: 'server', bytes })
      near.write(bytes)
    })
    near.on('close', () => far.destroy())
  })
  await new Promise<void>((done) => proxy.listen(0, '127.0.0.1', done))
  await walk((proxy.address() as AddressInfo).port, digests)
  await new Promise((done) => proxy.close(done))
  return said
}

async function walk(port: number, digests: boolean): Promise<void> {
  const connection = new Connection(await negotiate(addressOf(port), { idleMs: 2000, digests }))
  const into = new Uint8Array(SIZE)
  try {
    await connection.request({ type: COMMAND.read, offset: 0, length: SIZE, into })
    await connection.request({ type: COMMAND.blockStatus, flags: COMMAND_FLAG.requestOne, offset: 0, length: SIZE })
    await connection.request({ type: COMMAND.write, offset: 512, length: 1024, payload: pattern(1024, 1) })
    await connection.request({ type: COMMAND.writeZeroes, offset: 512, length: 1024 })
    await connection.request({ type: COMMAND.flush, offset: 0, length: 0 })
  } finally {
    await connection.end()
  }
}

/** What is done to the bytes of one side. */
const damage = fc.record({
  at: fc.nat(1_000_000),
  how: fc.constantFrom('byte', 'word', 'long', 'cut', 'twice', 'noise'),
  value: fc.constantFrom(0, 1, 2, 0x7f, 0x80, 0xff),
  noise: fc.uint8Array({ minLength: 1, maxLength: 64 }),
})

function damaged(
  bytes: Buffer,
  { at, how, value, noise }: { at: number; how: string; value: number; noise: Uint8Array },
) {
  if (bytes.length === 0) return bytes
  const made = Buffer.from(bytes)
  // Headers are short and what they carry is long: most damage is to be in the headers.
  const place = at % Math.min(made.length, at % 3 === 0 ? made.length : 420)
  if (how === 'byte') made[place] = value
  if (how === 'word') made.subarray(place, place + 4).fill(value)
  if (how === 'long') made.subarray(place, place + 8).fill(value)
  if (how === 'cut') return made.subarray(0, place)
  if (how === 'twice') return Buffer.concat([made.subarray(0, place), made])
  if (how === 'noise') return Buffer.concat([made.subarray(0, place), noise, made.subarray(place)])
  return made
}

const bytesBy = (by: Said['by'], digests: boolean) =>
  Buffer.concat(sessions.get(digests)!.flatMap((s) => (s.by === by ? [s.bytes] : [])))

const ended = (socket: Socket) =>
  new Promise<void>((done) => {
    socket.on('error', () => {})
    socket.on('close', () => done())
    socket.resume()
  })

describe('malformed messages', () => {
  it('end a connection of the lender, and it goes on with the next', { timeout: 900_000 }, async () => {
    const before = process.memoryUsage().rss
    await fc.assert(
      fc.asyncProperty(fc.array(damage, { minLength: 1, maxLength: 3 }), fc.boolean(), async (damages, digests) => {
        const socket = connect({ port: lender.address.port, host: '127.0.0.1' })
        const over = ended(socket)
        socket.end(damages.reduce(damaged, bytesBy('client', digests)))
        await over
      }),
      { numRuns: runsOf(300, 20_000) },
    )
    await walk(lender.address.port, false)
    expect(lender.borrowers.length).toBeLessThanOrEqual(1)
    expect(process.memoryUsage().rss - before).toBeLessThan(200 * 1024 * 1024)
  })

  it('end a client in a sentence, without a byte that nobody sent', { timeout: 900_000 }, async () => {
    const before = process.memoryUsage().rss
    await fc.assert(
      fc.asyncProperty(fc.array(damage, { minLength: 1, maxLength: 3 }), fc.boolean(), async (damages, digests) => {
        const server = createServer((socket) => {
          socket.on('error', () => {})
          answer(socket, sessions.get(digests)!, damages.reduce(damaged, bytesBy('server', digests)))
        })
        await new Promise<void>((done) => server.listen(0, '127.0.0.1', done))
        const { port } = server.address() as AddressInfo
        const error = await walk(port, digests).catch((e: unknown) => e)
        if (error !== undefined) expect(error).toBeInstanceOf(CoreError)
        const opened = await NbdFile.open(addressOf(port), { patienceMs: 0, digests }).catch((e: unknown) => e)
        if (opened instanceof NbdFile) await opened.close()
        else expect(opened).toBeInstanceOf(CoreError)
        await new Promise((done) => server.close(done))
      }),
      { numRuns: runsOf(200, 20_000) },
    )
    expect(process.memoryUsage().rss - before).toBeLessThan(200 * 1024 * 1024)
  })
})

/** Says what is to be said as the client goes on, each part after as many bytes as came before it; then it ends. */
function answer(socket: Socket, session: readonly Said[], bytes: Buffer): void {
  const turns: { after: number; length: number }[] = []
  let asked = 0
  for (const { by, bytes: said } of session) {
    if (by === 'client') asked += said.length
    else turns.push({ after: asked, length: said.length })
  }
  let heard = 0
  let at = 0
  const go = () => {
    while (turns.length > 0 && heard >= turns[0].after) {
      const { length } = turns.shift()!
      socket.write(bytes.subarray(at, (at += length)))
    }
    if (turns.length === 0) socket.end(bytes.subarray(at))
  }
  const idle = setTimeout(() => socket.end(bytes.subarray(at)), 30)
  socket.on('data', (said) => {
    heard += said.length
    idle.refresh()
    go()
  })
  socket.on('close', () => clearTimeout(idle))
  go()
}
