import * as z from 'zod'
import { changeMoveInTurn } from '@/server/moves/jobs'
import { answer, jsonBody, respond } from '@/server/ground/answer'
import { moveRow } from '@/server/moves'
import { latestCopy } from '@/server/moves/copies'
import { commandCopy } from '@/server/stations/copy'
import { resumeCopy, startCopy } from '@/server/stations/ready/start'

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

/** `{ "plate": "4M1Q" }` starts the copy; `{ "command": "go-on" }` takes one up again; other commands steer what runs. */
export async function POST(request: Request, { params }: Context): Promise<Response> {
  return respond(
    await answer(async () => {
      const { id } = await params
      await moveRow(id)
      const body = await jsonBody(request)
      const command = z.object({ command: z.string() }).safeParse(body).data?.command
      await changeMoveInTurn(id, () => {
        if (command === undefined) return startCopy(id, body)
        return command === 'go-on' ? resumeCopy(id, body) : commandCopy(id, body)
      })
      return null
    }),
  )
}
