import { answer, respond } from '@/server/ground/answer'
import { emulatedSerial } from '@/server/pages/emulated'

/** What an emulated computer last said on its serial line. */
export async function GET(_request: Request, { params }: { params: Promise<{ id: string }> }): Promise<Response> {
  const { id } = await params
  return respond(await answer(() => emulatedSerial(id)))
}
