import { answer, jsonBody, respond } from '@/server/ground/answer'
import { putOnBench } from '@/server/world/image-drives'

/** Puts an image on the bench as a drive. */
export async function POST(request: Request): Promise<Response> {
  return respond(await answer(async () => putOnBench(await jsonBody(request))))
}
