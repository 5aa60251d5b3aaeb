import * as z from 'zod'
import { PlaceSchema } from '@/core/things/drive'
import { answer, jsonBody, respond } from '@/server/ground/answer'
import { placeByHand } from '@/server/world'

const BodySchema = z.object({ place: PlaceSchema, meant: z.boolean().default(false) })

export const dynamic = 'force-dynamic'

/** `{ "place": … }` puts the drive there; with `"meant": true` also where that cuts a copy off. */
export async function POST(request: Request, { params }: { params: Promise<{ id: string }> }): Promise<Response> {
  return respond(
    await answer(async () => {
      const { id } = await params
      const { place, meant } = BodySchema.parse(await jsonBody(request))
      await placeByHand(id, place, meant)
      return null
    }),
  )
}
