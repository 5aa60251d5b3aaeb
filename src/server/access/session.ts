import { randomUUID } from 'node:crypto'
import { jwtVerify, SignJWT } from 'jose'
import { sessionKey } from './passphrase'

/** The cookie of a browser whose user has typed the passphrase. */
export const SESSION_COOKIE = 'imbarco-session'
export const SESSION_SECONDS = 14 * 24 * 60 * 60

const ALGORITHM = 'HS256'

/** The value of the cookie for a new session. */
export async function newSession(): Promise<string> {
  const key = sessionKey()
  if (!key) throw new Error('There is no passphrase, so there are no sessions.')
  return new SignJWT({})
    .setProtectedHeader({ alg: ALGORITHM })
    .setJti(randomUUID())
    .setIssuedAt()
    .setExpirationTime(`${SESSION_SECONDS}s`)
    .sign(key)
}

/** True for the cookie of a session that was signed with the present key and has not ended. */
export async function isSession(cookie: string | undefined): Promise<boolean> {
  const key = sessionKey()
  if (!key || !cookie) return false
  return jwtVerify(cookie, key, { algorithms: [ALGORITHM] }).then(
    () => true,
    () => false,
  )
}
