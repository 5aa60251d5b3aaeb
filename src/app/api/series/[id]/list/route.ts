import { answer, respond } from '@/server/ground/answer'
import { seriesList } from '@/server/pages/series'

export const dynamic = 'force-dynamic'

/** The computers of a series as a CSV file, one line each. */
export async function GET(_request: Request, { params }: { params: Promise<{ id: string }> }): Promise<Response> {
  const made = await answer(async () => seriesList((await params).id))
  if (!made.ok) return respond(made)
  const { name, text } = made.value
  return new Response(text, {
    headers: { 'content-type': 'text/csv; charset=utf-8', 'content-disposition': `attachment; filename="${name}"` },
  })
}
