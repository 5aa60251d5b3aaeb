import { answer, jsonBody, respond } from '@/server/ground/refusal'
import { startJob } from '@/server/pages/images/jobs'

/** Starts a conversion, a capture or a comparison. */
export async function POST(request: Request): Promise<Response> {
  return respond(await answer(async () => startJob(await jsonBody(request))))
}
