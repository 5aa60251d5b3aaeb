import { randomBytes, scrypt, timingSafeEqual } from 'node:crypto'
import { chmodSync, readFileSync, statSync } from 'node:fs'
import { mkdir, rm } from 'node:fs/promises'
import path from 'node:path'
import { promisify } from 'node:util'
import { RateLimiterMemory } from 'rate-limiter-flexible'
import * as z from 'zod'
import { fromBase64, toBase64 } from '@/core/bytes/base64'
import { writeWhole } from '@/host/whole-file'
import { log } from '../ground/log'
import { dataFolder } from '../ground/paths'
import { Refusal } from '../ground/refusals'
import { singleton } from '../ground/singleton'

// A bench that others in the network can reach is opened with a passphrase. What is kept of it is a scrypt hash, beside
// the key that sessions are signed with.

const KeptSchema = z.object({
  version: z.literal(1),
  cost: z.number().int(),
  salt: z.string(),
  hash: z.string(),
  sessionKey: z.string(),
})
type Kept = z.infer<typeof KeptSchema>

/** Cost of a try, about a tenth of a second and 64 MiB. */
const COST = 2 ** 16
const HASH_BYTES = 32
const SHORTEST = 12
const LONGEST = 200

const hash = promisify(scrypt) as (
  passphrase: string,
  salt: Uint8Array,
  length: number,
  options: { N: number; r: number; p: number; maxmem: number },
) => Promise<Buffer>

const file = () => path.join(dataFolder(), 'passphrase.json')

const hashOf = (passphrase: string, salt: Uint8Array, cost: number) =>
  // The same characters, however they were typed.
  hash(passphrase.normalize('NFKC'), salt, HASH_BYTES, { N: cost, r: 8, p: 1, maxmem: 256 * cost * 8 })

/** Sets the passphrase; every session ends. Rejects with Refusal for one that is too short. */
export async function setPassphrase(passphrase: string): Promise<void> {
  if (passphrase.length < SHORTEST || passphrase.length > LONGEST)
    throw new Refusal('passphrase-length', { shortest: SHORTEST, longest: LONGEST })
  const salt = randomBytes(16)
  const kept: Kept = {
    version: 1,
    cost: COST,
    salt: toBase64(salt),
    hash: toBase64(await hashOf(passphrase, salt, COST)),
    sessionKey: toBase64(randomBytes(32)),
  }
  await mkdir(dataFolder(), { recursive: true })
  await writeWhole(file(), JSON.stringify(kept))
  chmodSync(file(), 0o600)
}

/** Takes the passphrase away. */
export async function removePassphrase(): Promise<void> {
  await rm(file(), { force: true })
}

const known = () => singleton('passphrase', () => ({ stamp: '', kept: undefined as Kept | 'broken' | undefined }))

/** What is kept, read again when its file is another; 'broken' where that does not have its form. */
function keptNow(): Kept | 'broken' | undefined {
  const now = known()
  const found = statSync(/* turbopackIgnore: true */ file(), { throwIfNoEntry: false })
  const stamp = found ? `${found.mtimeMs} ${found.ino} ${found.size}` : ''
  if (stamp === now.stamp) return now.kept
  now.stamp = stamp
  try {
    now.kept = found && KeptSchema.parse(JSON.parse(readFileSync(/* turbopackIgnore: true */ file(), 'utf8')))
  } catch (error) {
    // Nobody gets in by damaging it.
    log.error(error)
    now.kept = 'broken'
  }
  return now.kept
}

/** True where pages are shown only to who has typed the passphrase. */
export function needsPassphrase(): boolean {
  return keptNow() !== undefined
}

/** What sessions are signed with; undefined where there is no passphrase. */
export function sessionKey(): Uint8Array | undefined {
  const kept = keptNow()
  return kept && kept !== 'broken' ? fromBase64(kept.sessionKey) : undefined
}

/** Tries of everybody together, so that no address that a client may choose counts for anything. */
const TRIES = { points: 10, duration: 60 }
const limiter = () => singleton('passphrase-tries', () => new RateLimiterMemory(TRIES))

/** Rejects with Refusal where this is not the passphrase, or too many were tried within a minute. */
export async function checkPassphrase(passphrase: string): Promise<void> {
  await limiter()
    .consume('all')
    .catch(() => {
      throw new Refusal('passphrase-tries')
    })
  const kept = keptNow()
  if (kept === undefined || kept === 'broken') {
    throw new Refusal('passphrase-unreadable')
  }
  const typed = await hashOf(passphrase.slice(0, LONGEST + 1), fromBase64(kept.salt), kept.cost)
  if (!timingSafeEqual(typed, fromBase64(kept.hash))) throw new Refusal('passphrase-wrong')
}
