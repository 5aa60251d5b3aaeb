import { z } from 'zod'
import { commandCopy, startCopy } from '@/server/copy'
import { latestCopy } from '@/server/copy/current'
import { moveRow } from '@/server/move'
import { inMoveQueue } from '@/server/queue'
import { answer, jsonBody, respond } from '@/server/refusal'

export const dynamic = 'force-dynamic'

type Context = { params: Promise<{ id: string }> }

/** The newest copy of the move as it is this moment, or null. */
export async function GET(_request: Request, { params }: Context): Promise<Response> {
  return respond(
    await answer(async () => {
      const { id } = await params
      await moveRow(id)
      return (await latestCopy(id)) ?? null
    }),
  )
}

/** `{ "plate": "4M1Q" }` starts the copy; `{ "command": "pause" | "resume" | "stop" }` steers it. */
export async function POST(request: Request, { params }: Context): Promise<Response> {
  return respond(
    await answer(async () => {
      const { id } = await params
      await moveRow(id)
      const body = await jsonBody(request)
      const isCommand = z.object({ command: z.string() }).safeParse(body).success
      await inMoveQueue(id, () => (isCommand ? commandCopy(id, body) : startCopy(id, body)))
      return null
    }),
  )
}
