import { randomBytes } from 'node:crypto'
import { type NextRequest, NextResponse } from 'next/server'
import { whyNotLetIn } from '@/server/access/guard'
import type { Refusal } from '@/server/ground/refusals'

/** Lets in whom the guard lets in, and sends pages with a policy that lets no other site frame them or bring scripts. */
export async function proxy(request: NextRequest): Promise<NextResponse> {
  const why = await whyNotLetIn(request)
  if (why) {
    const isPage = request.method === 'GET' && !request.nextUrl.pathname.startsWith('/api/')
    if (why.code === 'passphrase-needed' && isPage) return NextResponse.redirect(new URL('/login', request.url))
    return refuse(why)
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

function refuse({ code, parameters, message, status }: Refusal): NextResponse {
  return NextResponse.json({ ok: false, code, parameters, sentence: message }, { status })
}

// The body of what passes here is kept in memory by the framework, so uploads go past it and ask the guard themselves.
export const config = { matcher: '/((?!_next/static|_next/image|api/images/upload(?:/[A-Za-z0-9]*)?$).*)' }
