import { randomBytes } from 'node:crypto'
import { type NextRequest, NextResponse } from 'next/server'
import { hostName, ownNames } from '@/server/access/names'
import { needsPassphrase } from '@/server/access/passphrase'
import { isSession, SESSION_COOKIE } from '@/server/access/session'
import { Refusal } from '@/server/ground/refusals'

/** Names this server goes by; more by IMBARCO_HOSTS, separated by commas. */
const OWN_NAMES = ownNames(process.env.IMBARCO_LISTENS_ON ?? '127.0.0.1', (process.env.IMBARCO_HOSTS ?? '').split(','))

/** What is shown to anybody: where the passphrase is typed. */
const OPEN = ['/login', '/api/session']

/**
 * Answers only to the server's own names, so that no other site can reach it by a name of its own, takes writes only from
 * its own pages, lets in who has typed the passphrase where there is one, and lets no other site frame a page.
 */
export async function proxy(request: NextRequest): Promise<NextResponse> {
  const host = request.headers.get('host') ?? ''
  if (!OWN_NAMES.has(hostName(host))) {
    return refuse(new Refusal('host-foreign'))
  }
  if (request.method !== 'GET' && request.method !== 'HEAD') {
    const origin = request.headers.get('origin')
    const site = request.headers.get('sec-fetch-site')
    const foreign = (origin !== null && !sameHost(origin, host)) || site === 'cross-site' || site === 'same-site'
    if (foreign) return refuse(new Refusal('site-foreign'))
  }
  const { pathname } = request.nextUrl
  if (needsPassphrase() && !OPEN.includes(pathname) && !(await isSession(request.cookies.get(SESSION_COOKIE)?.value))) {
    if (pathname.startsWith('/api/') || request.method !== 'GET') return refuse(new Refusal('passphrase-needed'))
    return NextResponse.redirect(new URL('/login', request.url))
  }
  const nonce = randomBytes(16).toString('base64')
  const policy = policyWith(nonce)
  // The framework takes the nonce for its own scripts from the policy of the request.
  const headers = new Headers(request.headers)
  headers.set('content-security-policy', policy)
  headers.set('x-nonce', nonce)
  const response = NextResponse.next({ request: { headers } })
  response.headers.set('content-security-policy', policy)
  response.headers.set('x-content-type-options', 'nosniff')
  response.headers.set('referrer-policy', 'same-origin')
  return response
}

function policyWith(nonce: string): string {
  const scripts =
    process.env.NODE_ENV === 'development'
      ? "'self' 'unsafe-inline' 'unsafe-eval'"
      : `'nonce-${nonce}' 'strict-dynamic'`
  return [
    "default-src 'self'",
    `script-src ${scripts}`,
    // Widths and colours that are worked out stand at the elements themselves.
    "style-src 'self' 'unsafe-inline'",
    "img-src 'self' data: blob:",
    "connect-src 'self'",
    "worker-src 'self' blob:",
    "object-src 'none'",
    "base-uri 'none'",
    "form-action 'self'",
    "frame-ancestors 'none'",
  ].join('; ')
}

function sameHost(origin: string, host: string): boolean {
  try {
    return new URL(origin).host === host.trim().toLowerCase()
  } catch {
    return false
  }
}

function refuse({ code, parameters, message, status }: Refusal): NextResponse {
  return NextResponse.json({ ok: false, code, parameters, sentence: message }, { status })
}

export const config = { matcher: '/((?!_next/static|_next/image).*)' }
