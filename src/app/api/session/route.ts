import { NextResponse } from 'next/server'
import { checkPassphrase } from '@/server/access/passphrase'
import { newSession, SESSION_COOKIE, SESSION_SECONDS } from '@/server/access/session'
import { answer } from '@/server/ground/answer'

/** The form of the login page: opens a session for who typed the passphrase, or shows the form again with the reason. */
export async function POST(request: Request): Promise<Response> {
  const form = await request.formData().catch(() => new FormData())
  const given = form.get('passphrase')
  const checked = await answer(() => checkPassphrase(typeof given === 'string' ? given : ''))
  const to = (path: string) => new NextResponse(null, { status: 303, headers: { location: path } })
  if (!checked.ok) return to(`/login?why=${checked.status === 429 ? 'wait' : 'wrong'}`)
  const response = to('/')
  response.cookies.set(SESSION_COOKIE, await newSession(), {
    httpOnly: true,
    sameSite: 'strict',
    path: '/',
    maxAge: SESSION_SECONDS,
  })
  return response
}

/** Ends the session of this browser. */
export function DELETE(): Response {
  const response = NextResponse.json({ ok: true, value: null })
  response.cookies.delete(SESSION_COOKIE)
  return response
}
