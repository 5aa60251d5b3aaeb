import { connect, type Socket } from 'node:net'
import { connect as connectTls, type TLSSocket } from 'node:tls'
import { BadStructure } from '@/core/errors'
import type { NbdAddress } from './address'
import { ConnectionLost, NotLent, ProtocolError } from './errors'
import { PSK_CIPHERS, type SharedKey } from './key'
import {
  ALLOCATION,
  DEFAULT_MOST_BYTES,
  DIGEST_CONTEXTS,
  EXPORT_FLAG,
  HANDSHAKE,
  INFO,
  INFO_BLOCK_SIZE,
  INFO_EXPORT,
  isOptionError,
  MOST_NAME_BYTES,
  OPTION,
  OPTION_HEADER,
  OPTION_MAGIC,
  OPTION_REPLY,
  OPTION_REPLY_HEADER,
  OPTION_REPLY_MAGIC,
  SERVER_MAGIC,
  SERVER_START,
  u16,
  u32,
} from './protocol'
import { Wire } from './wire'

/** What a server lends, as it says when it is asked for it. */
export interface Lent {
  readonly size: number
  readonly flags: number
  /** The server takes whole blocks of this many bytes only. */
  readonly minimumBytes: number
  readonly mostBytes: number
  readonly structured: boolean
  /** The number of the context in which it tells what is allocated; undefined where it does not. */
  readonly allocationId: number | undefined
  /** The numbers of the contexts in which it tells digests, in their order; empty where they were not asked for. */
  readonly digestIds: readonly number[]
  /** What it says of it, in one line for people. */
  readonly description: string
  /** The same as it came, for programs. */
  readonly said: string
}

export interface Asking {
  readonly key?: SharedKey
  readonly idleMs: number
  /** Waits for the yes as long as that takes. */
  readonly untilYes?: boolean
  /** For all else that is waited for. */
  readonly askMs?: number
  /** Told when it was asked for, and nothing is missing but the yes. */
  readonly onAsked?: () => void
  /** Asks for digests of ranges in place of what is allocated. */
  readonly digests?: boolean
  /** Ends the asking. */
  readonly signal?: AbortSignal
}

export interface Negotiated {
  readonly wire: Wire
  readonly lent: Lent
}

/** A reply to an option is not longer than this here; a server that says more is none. */
const MOST_REPLY = 64 * 1024
/** So many replies to one option are listened to. */
const MOST_REPLIES = 64
/** Every answer while it is asked for something comes in this time. */
const ASK_MS = 10_000

/** Connects and asks for what is lent there. Rejects with ConnectionLost, ProtocolError, or NotLent where it is refused. */
export async function negotiate(address: NbdAddress, asking: Asking): Promise<Negotiated> {
  const { key, idleMs, askMs = ASK_MS, signal } = asking
  if (address.tls && !key) throw new NotLent('This is lent by a key, and none was given.')
  let wire = new Wire(await connected(address, askMs), askMs)
  const stop = () => wire.fail(new ConnectionLost('it was no longer asked for'))
  if (signal?.aborted) stop()
  signal?.addEventListener('abort', stop)
  try {
    const start = SERVER_START.read(await wire.take(SERVER_START.size))
    if (start.magic !== SERVER_MAGIC) throw new ProtocolError('its greeting is another')
    if (start.optionMagic !== OPTION_MAGIC || (start.flags & HANDSHAKE.fixedNewstyle) === 0)
      throw new ProtocolError('it speaks an older form of it, without options')
    const noZeroes = start.flags & HANDSHAKE.noZeroes
    await wire.send(u32(HANDSHAKE.fixedNewstyle | noZeroes))
    if (address.tls) {
      await expectAck(wire, OPTION.startTls, new Uint8Array(0), 'TLS')
      wire = new Wire(await secured(wire.release(), address, key!, askMs), askMs)
    }
    const structured = (await ask(wire, OPTION.structuredReply)).at(-1)!.type === OPTION_REPLY.ack
    const contexts = asking.digests ? DIGEST_CONTEXTS : [ALLOCATION]
    const ids = structured ? await contextsOf(wire, address.exportName, contexts) : []
    const found = ids.length === contexts.length ? ids : []
    const [allocationId, digestIds] = asking.digests ? [undefined, found] : [found[0], []]
    const lent = await go(wire, address, asking)
    const socket = wire.release()
    return { wire: new Wire(socket, idleMs), lent: { ...lent, structured, allocationId, digestIds } }
  } catch (error) {
    wire.fail(error instanceof Error ? error : new ConnectionLost(String(error)))
    throw error instanceof BadStructure ? new ProtocolError(error.why) : error
  } finally {
    signal?.removeEventListener('abort', stop)
  }
}

function connected({ host, port }: NbdAddress, mostMs: number): Promise<Socket> {
  return new Promise((done, failed) => {
    const socket = connect({ host, port, keepAlive: true, keepAliveInitialDelay: 10_000 })
    const timer = setTimeout(() => socket.destroy(new Error('it does not answer')), mostMs)
    const onError = (error: Error) => {
      clearTimeout(timer)
      failed(new ConnectionLost(`${host}, port ${port}: ${error.message}`))
    }
    socket.once('error', onError)
    socket.once('connect', () => {
      clearTimeout(timer)
      socket.off('error', onError)
      done(socket)
    })
  })
}

/** The same connection through TLS, both sides by the key that they share. */
function secured(socket: Socket, address: NbdAddress, key: SharedKey, mostMs: number): Promise<TLSSocket> {
  return new Promise((done, failed) => {
    const tls = connectTls({
      socket,
      ciphers: PSK_CIPHERS,
      maxVersion: 'TLSv1.2',
      checkServerIdentity: () => undefined,
      pskCallback: () => ({ psk: key.key, identity: address.identity ?? key.identity }),
    })
    const timer = setTimeout(() => tls.destroy(new Error('it does not answer')), mostMs)
    const onError = (error: Error & { code?: string }) => {
      clearTimeout(timer)
      const isKey = /ERR_SSL|EPROTO|ECONNRESET/.test(error.code ?? '')
      failed(isKey ? new NotLent('The other side does not take this key.') : new ConnectionLost(error.message))
    }
    tls.once('error', onError)
    tls.once('secureConnect', () => {
      clearTimeout(timer)
      tls.off('error', onError)
      done(tls)
    })
  })
}

interface OptionReply {
  readonly type: number
  readonly data: Uint8Array
}

/** Asks for an option. Returns its replies, the last of which ends it; with `patient` a person may have to answer first. */
async function ask(
  wire: Wire,
  option: number,
  data: Uint8Array = new Uint8Array(0),
  patient = false,
): Promise<OptionReply[]> {
  const header = new Uint8Array(OPTION_HEADER.size)
  OPTION_HEADER.write(header, { magic: OPTION_MAGIC, option, length: data.length })
  await wire.send(header, data)
  if (patient) wire.socket.setKeepAlive(true, 5_000)
  const replies: OptionReply[] = []
  while (replies.length < MOST_REPLIES) {
    const start = new Uint8Array(OPTION_REPLY_HEADER.size)
    await wire.read(start, patient)
    const reply = OPTION_REPLY_HEADER.read(start)
    if (reply.magic !== OPTION_REPLY_MAGIC || reply.option !== option)
      throw new ProtocolError('it answers something that was not asked')
    if (reply.length > MOST_REPLY) throw new ProtocolError(`an answer of ${reply.length} bytes`)
    replies.push({ type: reply.type, data: await wire.take(reply.length) })
    if (reply.type === OPTION_REPLY.ack || isOptionError(reply.type)) return replies
  }
  throw new ProtocolError('an answer without end')
}

async function expectAck(
  wire: Wire,
  option: number,
  data: Uint8Array,
  what: string,
  patient = false,
): Promise<OptionReply[]> {
  const replies = await ask(wire, option, data, patient)
  const last = replies.at(-1)!
  if (last.type === OPTION_REPLY.ack) return replies
  throw new NotLent(refusalOf(last, what))
}

function refusalOf({ type, data }: OptionReply, what: string): string {
  const said = textOf(data)
  if (type === OPTION_REPLY.tlsRequired) return 'This is lent by a key only, so its address begins with nbds://.'
  if (type === OPTION_REPLY.unknown) return `Nothing of the name ${what} is lent there.`
  if (type === OPTION_REPLY.unsupported) return `The other side does not know ${what}.`
  return `The other side refuses ${what}${said ? `: ${said}` : '.'}`
}

const DECODER = new TextDecoder()

/** What a server says in words, in one line that cannot steer a terminal. */
export function textOf(data: Uint8Array): string {
  return DECODER.decode(data.subarray(0, 300))
    .replace(/[\p{C}\s]+/gu, ' ')
    .trim()
}

/** The numbers under which a server tells of these contexts, in their order; without those that it does not know. */
async function contextsOf(wire: Wire, exportName: string, contexts: readonly string[]): Promise<number[]> {
  const name = new TextEncoder().encode(exportName)
  const queries = contexts.map((context) => new TextEncoder().encode(context))
  const asked = queries.flatMap((query) => [u32(query.length), query])
  const data = Buffer.concat([u32(name.length), name, u32(queries.length), ...asked])
  const ids = new Map<string, number>()
  for (const { type, data: found } of await ask(wire, OPTION.setMetaContext, data)) {
    if (type !== OPTION_REPLY.metaContext || found.length < 4) continue
    ids.set(Buffer.from(found.subarray(4)).toString(), Buffer.from(found).readUInt32BE(0))
  }
  return contexts.flatMap((context) => ids.get(context) ?? [])
}

type Export = Omit<Lent, 'structured' | 'allocationId' | 'digestIds'>

async function go(wire: Wire, { exportName }: NbdAddress, { untilYes = false, onAsked }: Asking): Promise<Export> {
  const name = new TextEncoder().encode(exportName)
  const data = Buffer.concat([u32(name.length), name, u16(2), u16(INFO.blockSize), u16(INFO.description)])
  const called = exportName === '' ? 'it' : `“${textOf(name)}”`
  const asked = expectAck(wire, OPTION.go, data, called, untilYes)
  onAsked?.()
  const replies = await asked
  let found: Pick<Export, 'size' | 'flags'> | undefined
  let blocks = { minimumBytes: 1, mostBytes: DEFAULT_MOST_BYTES }
  let said = ''
  for (const { type, data: info } of replies) {
    if (type !== OPTION_REPLY.info || info.length < 2) continue
    const kind = Buffer.from(info).readUInt16BE(0)
    if (kind === INFO.export) {
      const { size, flags } = INFO_EXPORT.read(info)
      found = { size, flags }
    } else if (kind === INFO.blockSize) blocks = blockSizes(info)
    else if (kind === INFO.description) said = DECODER.decode(info.subarray(2, 2 + MOST_NAME_BYTES))
  }
  if (!found || (found.flags & EXPORT_FLAG.hasFlags) === 0) throw new ProtocolError('it does not say what it lends')
  return { ...found, ...blocks, said, description: textOf(new TextEncoder().encode(said.split('\n')[0])) }
}

function blockSizes(info: Uint8Array): Pick<Export, 'minimumBytes' | 'mostBytes'> {
  const { minimum, maximum } = INFO_BLOCK_SIZE.read(info)
  const isPower = minimum > 0 && (minimum & (minimum - 1)) === 0
  if (!isPower || minimum > 65_536) throw new ProtocolError(`blocks of ${minimum} bytes`)
  if (maximum < Math.max(512, minimum)) throw new ProtocolError(`requests of at most ${maximum} bytes`)
  return { minimumBytes: minimum, mostBytes: Math.min(DEFAULT_MOST_BYTES, maximum - (maximum % minimum)) }
}
