import * as z from 'zod'
import { answer, respond } from '@/server/ground/answer'
import { summaryFile } from '@/server/stations/copy/files'

export const dynamic = 'force-dynamic'

const Query = z.object({ leg: z.coerce.number().int().min(1).max(99), as: z.enum(['json', 'csv', 'lost']) })

/** The summary of a leg's copy as a file: `?leg=1&as=json`, `csv`, or `lost` for its list of lost sectors. */
export async function GET(request: Request, { params }: { params: Promise<{ id: string }> }): Promise<Response> {
  const made = await answer(async () => {
    const { id } = await params
    const { leg, as } = Query.parse(Object.fromEntries(new URL(request.url).searchParams))
    return summaryFile(id, leg - 1, as)
  })
  if (!made.ok) return respond(made)
  const { name, type, text } = made.value
  return new Response(text, {
    headers: { 'content-type': `${type}; charset=utf-8`, 'content-disposition': `attachment; filename="${name}"` },
  })
}
