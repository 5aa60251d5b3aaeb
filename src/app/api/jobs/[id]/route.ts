import { answer, respond } from '@/server/ground/answer'
import { jobById, stopJob } from '@/server/jobs'

type Context = { params: Promise<{ id: string }> }

/** How far a job is, or what it came to. */
export async function GET(_request: Request, { params }: Context): Promise<Response> {
  const { id } = await params
  return respond(await answer(() => jobById(id)))
}

/** Stops a running job. */
export async function DELETE(_request: Request, { params }: Context): Promise<Response> {
  const { id } = await params
  return respond(await answer(async () => stopJob(id)))
}
