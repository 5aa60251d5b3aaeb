import { expect } from 'vitest'
import { Refusal, type RefusalCode } from './refusals'

/** The sentence that something was refused with; fails where it was not. */
export async function refused(work: Promise<unknown>): Promise<string> {
  return (await refusalOf(work)).message
}

/** The code that something was refused with; fails where it was not. */
export async function refusalCode(work: Promise<unknown>): Promise<RefusalCode> {
  return (await refusalOf(work)).code
}

async function refusalOf(work: Promise<unknown>): Promise<Refusal> {
  const error = await work.then(
    () => undefined,
    (e: unknown) => e,
  )
  expect(error).toBeInstanceOf(Refusal)
  return error as Refusal
}
