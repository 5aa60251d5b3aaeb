import * as z from 'zod'
import { answer, respond } from '@/server/ground/answer'
import { sheetFile } from '@/server/stations/handover/files'

export const dynamic = 'force-dynamic'

const Query = z.object({ as: z.enum(['json', 'pdf']) })

/** The sheet of a move as a file: `?as=json` or `?as=pdf`. */
export async function GET(request: Request, { params }: { params: Promise<{ id: string }> }): Promise<Response> {
  const made = await answer(async () => {
    const { id } = await params
    const { as } = Query.parse(Object.fromEntries(new URL(request.url).searchParams))
    return sheetFile(id, as)
  })
  if (!made.ok) return respond(made)
  const { name, type, bytes } = made.value
  return new Response(new Uint8Array(bytes), {
    headers: { 'content-type': type, 'content-disposition': `attachment; filename="${name}"` },
  })
}
