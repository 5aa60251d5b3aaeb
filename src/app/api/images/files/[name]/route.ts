import { answer, respond } from '@/server/ground/answer'
import { removeImage } from '@/server/pages/images/remove'

/** Deletes an image that nothing uses. */
export async function DELETE(_request: Request, { params }: { params: Promise<{ name: string }> }): Promise<Response> {
  const { name } = await params
  return respond(await answer(() => removeImage(name)))
}
