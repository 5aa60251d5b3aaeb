import * as z from 'zod'
import { CoreError } from '@/core/errors'
import { log } from './log'
import { Refusal } from './refusals'

/** What is said where the disk with the data folder is full. */
export const DISK_FULL =
  'The disk that holds the data folder is full. Delete images or uploads that are no longer needed, or make room on it, and start it again.'

/** Why something was not carried out: a code with its parameters for programs, a sentence for people. */
export interface Refused {
  readonly code: string
  readonly parameters: Readonly<Record<string, unknown>>
  readonly sentence: string
  readonly status: number
}

/** The answer to something that was asked for: done, or why not. */
export type Answer<T = undefined> = { ok: true; value: T } | ({ ok: false } & Refused)

/** Runs a service call and turns what goes wrong into data; nothing else reaches the browser. */
export async function answer<T>(work: () => Promise<T>): Promise<Answer<T>> {
  try {
    return { ok: true, value: await work() }
  } catch (error) {
    return { ok: false, ...refusedFor(error) }
  }
}

/** What is told of an error. One that nobody raised on purpose goes to the log, and nothing of it is told. */
export function refusedFor(error: unknown): Refused {
  if (error instanceof Refusal) {
    const { code, parameters, message, status } = error
    return { code, parameters, sentence: message, status }
  }
  if (error instanceof CoreError) {
    const code = error.name.replace(/(?!^)(?=[A-Z])/g, '-').toLowerCase()
    return { code, parameters: plain(error), sentence: error.message, status: 409 }
  }
  if (error instanceof z.ZodError) return malformed(error)
  if (error instanceof RangeError && /call stack/.test(error.message))
    return refusedFor(new Refusal('request-too-deep'))
  log.error(error)
  return {
    code: 'internal',
    parameters: {},
    // How far it came nobody knows here, so nothing is claimed of it.
    sentence: 'Something went wrong inside Imbarco. Look at the state as it is now; the server’s log has the details.',
    status: 500,
  }
}

function malformed({ issues }: z.ZodError): Refused {
  const { path, message } = issues[0]
  const at = path.join('.')
  // What a schema says in words of its own is for people; the rest is for who wrote the request.
  const isOwn = !/^(Invalid|Too |Unrecognized|Expected)/.test(message)
  const where = at ? ` at "${at}"` : ''
  const sentence = isOwn
    ? `${message.replace(/\.$/, '')}.`
    : `The request is malformed${where}: ${message}. Nothing was changed.`
  return { code: 'request-malformed', parameters: { at, why: message }, sentence, status: 400 }
}

/** Those fields of an error that can be told as JSON. */
const plain = (fields: object) =>
  Object.fromEntries(
    Object.entries(fields).filter(
      ([name, value]) => name !== 'name' && ['string', 'number', 'boolean'].includes(typeof value),
    ),
  )

/** The body of a request as JSON. Throws Refusal when it is none or too long. */
export async function jsonBody(request: Request): Promise<unknown> {
  const text = await request.text()
  if (text.length > 1_000_000) throw new Refusal('request-too-long')
  try {
    return JSON.parse(text)
  } catch {
    throw new Refusal('request-not-json')
  }
}

/** An answer as a response of a route handler. */
export function respond<T>(result: Answer<T>): Response {
  if (result.ok) return Response.json({ ok: true, value: result.value ?? null })
  const { status, ...refused } = result
  return Response.json(refused, { status })
}
