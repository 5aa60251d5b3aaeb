import type { NextRequest } from 'next/server'
import { whyNotLetIn } from '@/server/access/guard'
import { refusedFor, respond } from '@/server/ground/answer'
import { uploads } from '@/server/images/upload'

export const dynamic = 'force-dynamic'

/** The upload protocol speaks through all of these. */
async function handle(request: NextRequest): Promise<Response> {
  const why = await whyNotLetIn(request)
  if (why) return respond({ ok: false, ...refusedFor(why) })
  return uploads().handleWeb(request)
}

export { handle as DELETE, handle as HEAD, handle as OPTIONS, handle as PATCH, handle as POST }
