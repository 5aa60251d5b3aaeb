import { expect } from 'vitest'
import { Refusal } from './refusal'

/** The sentence that something was refused with; fails where it was not. */
export async function refused(work: Promise<unknown>): Promise<string> {
  const error = await work.then(
    () => undefined,
    (e: unknown) => e,
  )
  expect(error).toBeInstanceOf(Refusal)
  return (error as Refusal).message
}
