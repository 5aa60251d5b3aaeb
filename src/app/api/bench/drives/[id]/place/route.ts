import { z } from 'zod'
import { PlaceSchema } from '@/core/things/drive'
import { answer, jsonBody, respond } from '@/server/ground/answer'
import { placeDrive } from '@/server/world'

export const dynamic = 'force-dynamic'

/** `{ "place": … }` puts the drive there. */
export async function POST(request: Request, { params }: { params: Promise<{ id: string }> }): Promise<Response> {
  return respond(
    await answer(async () => {
      const { id } = await params
      const { place } = z.object({ place: PlaceSchema }).parse(await jsonBody(request))
      await placeDrive(id, place)
      return null
    }),
  )
}
