import { NotLent, ProtocolError } from './errors'
import type { LentExport } from './lender'
import {
  ALLOCATION,
  DEFAULT_MOST_BYTES,
  DIGEST_CONTEXTS,
  EXPORT_FLAG,
  HANDSHAKE,
  INFO,
  INFO_BLOCK_SIZE,
  INFO_EXPORT,
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
import type { Wire } from './wire'

/** What was agreed about the answers. */
export interface Agreed {
  readonly wire: Wire
  readonly structured: boolean
  readonly tellsAllocation: boolean
  /** Words of digests that are told, by their numbers. */
  readonly digestWords: readonly number[]
}

export interface Asking {
  /** Makes the connection one through TLS. Without it there is none. */
  readonly secure?: (before: Wire) => Promise<Wire>
  /** Resolves once the asker may have it; rejects with NotLent where not. */
  readonly yes: () => Promise<void>
}

/** The number of the only context. */
export const ALLOCATION_ID = 1

/** The number of the first word of digests; the others follow. */
export const DIGEST_ID = 2

/** An option's data is not longer: two names and a few numbers. */
const MOST_DATA = 3 * MOST_NAME_BYTES
const MOST_OPTIONS = 64

/** Says what is lent and listens to options until one of them begins the work. Rejects where the asker leaves. */
export async function listenToOptions(first: Wire, lent: LentExport, { secure, yes }: Asking): Promise<Agreed> {
  let wire = first
  const greeting = new Uint8Array(SERVER_START.size)
  const flags = HANDSHAKE.fixedNewstyle | HANDSHAKE.noZeroes
  SERVER_START.write(greeting, { magic: SERVER_MAGIC, optionMagic: OPTION_MAGIC, flags })
  await wire.send(greeting)
  const client = Buffer.from(await wire.take(4)).readUInt32BE(0)
  if ((client & ~flags) !== 0) throw new ProtocolError(`flags ${client.toString(16)}`)
  let isSecure = false
  let structured = false
  let tellsAllocation = false
  let digestWords: number[] = []
  for (let options = 0; options < MOST_OPTIONS; options++) {
    const { magic, option, length } = OPTION_HEADER.read(await wire.take(OPTION_HEADER.size))
    if (magic !== OPTION_MAGIC) throw new ProtocolError('an option of no known form')
    if (length > MOST_DATA) throw new ProtocolError(`an option of ${length} bytes`)
    const data = Buffer.from(await wire.take(length))
    const reply = (type: number, bytes: Uint8Array = new Uint8Array(0)) => replyTo(wire, option, type, bytes)
    if (option === OPTION.abort) {
      await reply(OPTION_REPLY.ack)
      throw new NotLent('It asked for nothing.')
    }
    if (option === OPTION.startTls) {
      if (!secure) await reply(OPTION_REPLY.policy, said('It is lent without a key.'))
      else if (isSecure || length > 0) await reply(OPTION_REPLY.invalid)
      else {
        await reply(OPTION_REPLY.ack)
        wire = await secure(wire)
        isSecure = true
        // What was agreed where others may have listened, or spoken, counts no more.
        structured = false
        tellsAllocation = false
        digestWords = []
      }
      continue
    }
    if (secure && !isSecure) {
      if (option === OPTION.exportName) throw new NotLent('It asked without the key.')
      await reply(OPTION_REPLY.tlsRequired, said('It is lent by a key only.'))
      continue
    }
    if (option === OPTION.exportName) {
      if (data.toString() !== lent.name) throw new NotLent('It asked for something else.')
      await yes()
      const zeroes = (client & HANDSHAKE.noZeroes) === 0 ? 124 : 0
      await wire.send(exportInfo(lent).subarray(2), new Uint8Array(zeroes))
      return { wire, structured, tellsAllocation, digestWords }
    }
    if (option === OPTION.structuredReply) {
      structured = length === 0
      await reply(structured ? OPTION_REPLY.ack : OPTION_REPLY.invalid)
    } else if (option === OPTION.list) {
      if (length > 0) await reply(OPTION_REPLY.invalid)
      else {
        const name = Buffer.from(lent.name)
        await reply(OPTION_REPLY.server, Buffer.concat([u32(name.length), name]))
        await reply(OPTION_REPLY.ack)
      }
    } else if (option === OPTION.listMetaContext || option === OPTION.setMetaContext) {
      const set = option === OPTION.setMetaContext
      if (set) [tellsAllocation, digestWords] = [false, []]
      const asked = contextsIn(data)
      if (!asked || (set && !structured)) await reply(OPTION_REPLY.invalid)
      else if (asked.name !== lent.name) await reply(OPTION_REPLY.unknown)
      else {
        // Of a device that does not tell what it stores nothing is claimed.
        const contexts = lent.device.mapped ? [ALLOCATION] : []
        const known = lent.digest ? [...contexts, ...DIGEST_CONTEXTS] : contexts
        const all = !set && asked.queries.length === 0
        for (const context of known) {
          const isMeant = (query: string) => query === context || (!set && query === `${context.split(':')[0]}:`)
          if (!all && !asked.queries.some(isMeant)) continue
          const word = DIGEST_CONTEXTS.indexOf(context)
          const id = word < 0 ? ALLOCATION_ID : DIGEST_ID + word
          await reply(OPTION_REPLY.metaContext, Buffer.concat([u32(set ? id : 0), Buffer.from(context)]))
          if (set && word < 0) tellsAllocation = true
          else if (set) digestWords.push(word)
        }
        await reply(OPTION_REPLY.ack)
      }
    } else if (option === OPTION.go || option === OPTION.info) {
      const asked = infosIn(data)
      if (!asked) await reply(OPTION_REPLY.invalid)
      else if (asked.name !== lent.name) await reply(OPTION_REPLY.unknown, said('Nothing of this name is lent here.'))
      else {
        if (option === OPTION.go) await yesOr(yes, () => reply(OPTION_REPLY.policy, said('It was not allowed.')))
        await reply(OPTION_REPLY.info, exportInfo(lent))
        if (asked.infos.includes(INFO.name))
          await reply(OPTION_REPLY.info, Buffer.concat([u16(INFO.name), Buffer.from(lent.name)]))
        if (asked.infos.includes(INFO.description))
          await reply(OPTION_REPLY.info, Buffer.concat([u16(INFO.description), Buffer.from(lent.description)]))
        await reply(OPTION_REPLY.info, blockSizes(lent))
        await reply(OPTION_REPLY.ack)
        if (option === OPTION.go) return { wire, structured, tellsAllocation, digestWords }
      }
    } else await reply(OPTION_REPLY.unsupported)
  }
  throw new ProtocolError('options without end')
}

async function yesOr(yes: () => Promise<void>, refuse: () => Promise<void>): Promise<void> {
  try {
    await yes()
  } catch (error) {
    if (error instanceof NotLent) await refuse()
    throw error
  }
}

function replyTo(wire: Wire, option: number, type: number, data: Uint8Array): Promise<void> {
  const header = new Uint8Array(OPTION_REPLY_HEADER.size)
  OPTION_REPLY_HEADER.write(header, { magic: OPTION_REPLY_MAGIC, option, type, length: data.length })
  return wire.send(header, data)
}

const said = (text: string) => new TextEncoder().encode(text)

function exportInfo({ device, writable }: LentExport): Uint8Array {
  const both = EXPORT_FLAG.hasFlags | EXPORT_FLAG.flush | EXPORT_FLAG.dontFragment
  const flags = writable
    ? both | EXPORT_FLAG.fua | EXPORT_FLAG.trim | EXPORT_FLAG.writeZeroes
    : both | EXPORT_FLAG.readOnly | EXPORT_FLAG.multipleConnections
  const bytes = new Uint8Array(INFO_EXPORT.size)
  INFO_EXPORT.write(bytes, { type: INFO.export, size: device.size, flags })
  return bytes
}

function blockSizes({ device }: LentExport): Uint8Array {
  const bytes = new Uint8Array(INFO_BLOCK_SIZE.size)
  const preferred = Math.max(4096, device.physicalSectorSize)
  const minimum = device.logicalSectorSize
  INFO_BLOCK_SIZE.write(bytes, { type: INFO.blockSize, minimum, preferred, maximum: DEFAULT_MOST_BYTES })
  return bytes
}

/** The name and the numbers behind it; undefined where it has another form. */
function infosIn(data: Buffer): { name: string; infos: number[] } | undefined {
  if (data.length < 6) return undefined
  const nameLength = data.readUInt32BE(0)
  const at = 4 + nameLength
  if (nameLength > MOST_NAME_BYTES || at + 2 > data.length) return undefined
  const count = data.readUInt16BE(at)
  if (at + 2 + count * 2 !== data.length) return undefined
  const infos = Array.from({ length: count }, (_, i) => data.readUInt16BE(at + 2 + i * 2))
  return { name: data.subarray(4, at).toString(), infos }
}

/** The name and what is asked for of it; undefined where it has another form. */
function contextsIn(data: Buffer): { name: string; queries: string[] } | undefined {
  const name = textIn(data, 0)
  if (!name || name.end + 4 > data.length) return undefined
  const queries: string[] = []
  let at = name.end + 4
  for (let left = data.readUInt32BE(name.end); left > 0; left--) {
    const query = textIn(data, at)
    if (!query) return undefined
    queries.push(query.text)
    at = query.end
  }
  return at === data.length ? { name: name.text, queries } : undefined
}

function textIn(data: Buffer, at: number): { text: string; end: number } | undefined {
  if (at + 4 > data.length) return undefined
  const length = data.readUInt32BE(at)
  const end = at + 4 + length
  if (length > MOST_NAME_BYTES || end > data.length) return undefined
  return { text: data.subarray(at + 4, end).toString(), end }
}
