import type { NextRequest } from 'next/server'
import { Refusal } from '../ground/refusals'
import { hostName, ownNames } from './names'
import { needsPassphrase } from './passphrase'
import { isSession, SESSION_COOKIE } from './session'

/** Names this server goes by; more by IMBARCO_HOSTS, separated by commas. */
const OWN_NAMES = ownNames(process.env.IMBARCO_LISTENS_ON ?? '127.0.0.1', (process.env.IMBARCO_HOSTS ?? '').split(','))

/** What is shown to anybody: where the passphrase is typed. */
const OPEN = ['/login', '/api/session']

/**
 * Why a request is not answered; undefined where it is. Only the server's own names are answered to, so that no other
 * site can reach it by a name of its own; changes are taken only from its own pages; and where there is a passphrase,
 * only who has typed it is let in.
 */
export async function whyNotLetIn(request: NextRequest): Promise<Refusal | undefined> {
  const host = request.headers.get('host') ?? ''
  if (!OWN_NAMES.has(hostName(host))) return new Refusal('host-foreign')
  if (request.method !== 'GET' && request.method !== 'HEAD') {
    const origin = request.headers.get('origin')
    const site = request.headers.get('sec-fetch-site')
    const foreign = (origin !== null && !sameHost(origin, host)) || site === 'cross-site' || site === 'same-site'
    if (foreign) return new Refusal('site-foreign')
  }
  if (!isReadable(request.nextUrl.pathname)) return new Refusal('address-malformed')
  const isOpen = !needsPassphrase() || OPEN.includes(request.nextUrl.pathname)
  if (!isOpen && !(await isSession(request.cookies.get(SESSION_COOKIE)?.value))) return new Refusal('passphrase-needed')
  return undefined
}

/** An address with bytes that are no characters cannot be taken apart, and no name has a NUL in it. */
function isReadable(pathname: string): boolean {
  try {
    return !decodeURIComponent(pathname).includes('\0')
  } catch {
    return false
  }
}

function sameHost(origin: string, host: string): boolean {
  try {
    return new URL(origin).host === host.trim().toLowerCase()
  } catch {
    return false
  }
}
