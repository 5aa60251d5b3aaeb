import { type NextRequest, NextResponse } from 'next/server'

/** Names this server goes by; more by IMBARCO_HOSTS, separated by commas. */
const OWN_NAMES = new Set([
  '127.0.0.1',
  'localhost',
  '[::1]',
  ...(process.env.IMBARCO_HOSTS ?? '').split(',').map(nameOf).filter(Boolean),
])

/**
 * Answers only to the server's own names, so that no other site can reach it by a name of its own, and takes
 * writes only from its own pages.
 */
export function proxy(request: NextRequest): NextResponse {
  const host = request.headers.get('host') ?? ''
  if (!OWN_NAMES.has(nameOf(host))) {
    return refuse('This server answers only to its own name. Open it as http://127.0.0.1 with its port.', 421)
  }
  if (request.method !== 'GET' && request.method !== 'HEAD') {
    const origin = request.headers.get('origin')
    const site = request.headers.get('sec-fetch-site')
    const foreign = (origin !== null && !sameHost(origin, host)) || site === 'cross-site' || site === 'same-site'
    if (foreign) return refuse('Changes are taken only from Imbarco’s own pages. Nothing was changed.', 403)
  }
  return NextResponse.next()
}

/** A host as it is compared: without its port, blanks around it, and its case. */
function nameOf(host: string): string {
  return host.trim().toLowerCase().replace(/:\d+$/, '')
}

function sameHost(origin: string, host: string): boolean {
  try {
    return new URL(origin).host === host.trim().toLowerCase()
  } catch {
    return false
  }
}

function refuse(sentence: string, status: number): NextResponse {
  return NextResponse.json({ ok: false, sentence }, { status })
}

export const config = { matcher: '/((?!_next/static|_next/image).*)' }
