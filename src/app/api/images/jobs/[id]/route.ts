import { answer, respond } from '@/server/ground/refusal'
import { stopJob } from '@/server/pages/images/jobs'

/** Stops a running job. */
export async function DELETE(_request: Request, { params }: { params: Promise<{ id: string }> }): Promise<Response> {
  const { id } = await params
  return respond(await answer(async () => stopJob(id)))
}
