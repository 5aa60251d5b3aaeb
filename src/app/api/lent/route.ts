import { answer, jsonBody, respond } from '@/server/ground/answer'
import { lend } from '@/server/pages/lent'

/** Lends a drive or an image, for scripts; answers with the id of the lending. */
export async function POST(request: Request): Promise<Response> {
  return respond(await answer(async () => ({ id: await lend(await jsonBody(request)) })))
}
