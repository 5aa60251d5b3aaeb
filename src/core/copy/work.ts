import { type Digest, toHex } from '../digest'
import type { Layout } from '../fit/types'
import { type CopyChoices, scopeOf } from './choices'

/** Digest of all that decides what a copy writes; with another one it is another copy. */
export function workDigest(
  { layout, choices, note }: { layout: Layout; choices: CopyChoices; note: string },
  digest: Digest,
): string {
  return toHex(digest(new TextEncoder().encode(JSON.stringify({ layout, scope: scopeOf(choices), note }))))
}
