import { answer, respond } from '@/server/ground/answer'
import { sectorOf } from '@/server/pages/look'
import { lookQuery } from '../query'

/** A sector of a drive or an image with its structures. */
export async function GET(request: Request): Promise<Response> {
  return respond(
    await answer(async () => {
      const { subject, lba } = lookQuery(request)
      return sectorOf(subject, lba)
    }),
  )
}
