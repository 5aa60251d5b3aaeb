import { create } from 'content-disposition'
import { answer, respond } from '@/server/ground/answer'
import { exportBench } from '@/server/world/benches'

export const dynamic = 'force-dynamic'

/** The bench as a file to keep. */
export async function GET(_request: Request, { params }: { params: Promise<{ id: string }> }): Promise<Response> {
  const made = await answer(async () => exportBench((await params).id))
  if (!made.ok) return respond(made)
  const headers = {
    'content-type': 'application/json; charset=utf-8',
    'content-disposition': create(`${made.value.name}.bench.json`),
  }
  return new Response(made.value.text, { headers })
}
