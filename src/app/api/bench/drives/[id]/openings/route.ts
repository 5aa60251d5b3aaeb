import { answer, respond } from '@/server/ground/answer'
import { openingsFor } from '@/server/pages/shelf'

export const dynamic = 'force-dynamic'

/** The slots that a drive of the shelf can be put into. */
export async function GET(_: Request, { params }: { params: Promise<{ id: string }> }): Promise<Response> {
  return respond(await answer(async () => openingsFor((await params).id)))
}
