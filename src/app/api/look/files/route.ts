import { answer, respond } from '@/server/ground/answer'
import { folderOf } from '@/server/pages/look'
import { lookQuery } from '../query'

/** A folder of a volume. */
export async function GET(request: Request): Promise<Response> {
  return respond(
    await answer(async () => {
      const { subject, partition, path } = lookQuery(request)
      return folderOf(subject, partition, path)
    }),
  )
}
