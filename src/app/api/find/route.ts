import { answer, respond } from '@/server/ground/answer'
import { findThings } from '@/server/pages/find'

/** Moves, drives, computers and images by what is known of them. */
export async function GET(request: Request): Promise<Response> {
  return respond(await answer(() => findThings(Object.fromEntries(new URL(request.url).searchParams))))
}
