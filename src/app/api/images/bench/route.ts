import { putOnBench } from '@/server/images'
import { answer, jsonBody, respond } from '@/server/refusal'

/** Puts an image on the bench as a drive. */
export async function POST(request: Request): Promise<Response> {
  return respond(await answer(async () => putOnBench(await jsonBody(request))))
}
