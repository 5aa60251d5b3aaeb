import { z } from 'zod'
import { CoreError } from '@/core/errors'
import { log } from './log'

/** A request that is not carried out, with a sentence for the person and a status for programs. */
export class Refusal extends Error {
  override readonly name = 'Refusal'
  constructor(
    message: string,
    readonly status: 400 | 403 | 404 | 409 | 429 | 507 = 409,
  ) {
    super(message)
  }
}

/** What is said where the disk with the data folder is full. */
export const DISK_FULL =
  'The disk that holds the data folder is full. Delete images or uploads that are no longer needed, or make room on it, and start it again.'

/** The answer to something that was asked for: done, or why not. */
export type Answer<T = undefined> = { ok: true; value: T } | { ok: false; sentence: string; status: number }

/** Runs a service call and turns what goes wrong into a sentence; nothing else reaches the browser. */
export async function answer<T>(work: () => Promise<T>): Promise<Answer<T>> {
  try {
    return { ok: true, value: await work() }
  } catch (error) {
    return { ok: false, ...sentenceOf(error) }
  }
}

export function sentenceOf(error: unknown): { sentence: string; status: number } {
  if (error instanceof Refusal) return { sentence: error.message, status: error.status }
  if (error instanceof CoreError) return { sentence: error.message, status: 409 }
  if (error instanceof z.ZodError) {
    const { path, message } = error.issues[0]
    // What a schema says in words of its own is for people; the rest is for who wrote the request.
    const isOwn = !/^(Invalid|Too |Unrecognized|Expected)/.test(message)
    const where = path.length > 0 ? ` at "${path.join('.')}"` : ''
    const sentence = isOwn
      ? `${message.replace(/\.$/, '')}.`
      : `The request is malformed${where}: ${message}. Nothing was changed.`
    return { sentence, status: 400 }
  }
  log.error(error)
  return {
    // How far it came nobody knows here, so nothing is claimed of it.
    sentence: 'Something went wrong inside Imbarco. Look at the state as it is now; the server’s log has the details.',
    status: 500,
  }
}

/** The body of a request as JSON. Throws Refusal when it is none or too long. */
export async function jsonBody(request: Request): Promise<unknown> {
  const text = await request.text()
  if (text.length > 1_000_000) throw new Refusal('The request is too long. Nothing was changed.', 400)
  try {
    return JSON.parse(text)
  } catch {
    throw new Refusal('The request is not valid JSON. Nothing was changed.', 400)
  }
}

/** An answer as a response of a route handler. */
export function respond<T>(result: Answer<T>): Response {
  if (result.ok) return Response.json({ ok: true, value: result.value ?? null })
  return Response.json({ ok: false, sentence: result.sentence }, { status: result.status })
}
