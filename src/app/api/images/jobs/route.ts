import { answer, jsonBody, respond } from '@/server/ground/answer'
import { startImageJob } from '@/server/pages/images/jobs'

/** Starts a conversion, a capture or a comparison; answers with its id, and does not wait for its end. */
export async function POST(request: Request): Promise<Response> {
  return respond(
    await answer(async () => {
      const { id } = await startImageJob(await jsonBody(request))
      return { id }
    }),
  )
}
