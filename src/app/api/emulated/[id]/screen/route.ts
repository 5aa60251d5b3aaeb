import { answer, respond } from '@/server/ground/answer'
import { emulatedScreen } from '@/server/pages/emulated'

/** What the screen of an emulated computer shows now. */
export async function GET(_request: Request, { params }: { params: Promise<{ id: string }> }): Promise<Response> {
  const { id } = await params
  const picture = await answer(() => emulatedScreen(id))
  if (!picture.ok) return respond(picture)
  return new Response(Buffer.from(picture.value), {
    headers: { 'content-type': 'image/png', 'cache-control': 'no-store' },
  })
}
