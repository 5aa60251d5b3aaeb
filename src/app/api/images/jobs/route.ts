import { startJob } from '@/server/images/jobs'
import { answer, jsonBody, respond } from '@/server/refusal'

/** Starts a conversion, a capture or a comparison. */
export async function POST(request: Request): Promise<Response> {
  return respond(await answer(async () => startJob(await jsonBody(request))))
}
