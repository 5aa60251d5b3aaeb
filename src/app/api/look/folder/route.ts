import { create } from 'content-disposition'
import { answer, respond } from '@/server/ground/answer'
import { folderArchive } from '@/server/pages/folder-archive'
import { lookQuery } from '../query'

/** A folder of a volume with all that is below it, as one tar. */
export async function GET(request: Request): Promise<Response> {
  const found = await answer(async () => {
    const { subject, partition, path } = lookQuery(request)
    return folderArchive(subject, partition, path)
  })
  if (!found.ok) return respond(found)
  const { name, stream } = found.value
  return new Response(stream, {
    headers: {
      'content-type': 'application/x-tar',
      'content-disposition': create(name.replace(/[/\\\0-\x1f\x7f]+/g, '_')),
      'x-content-type-options': 'nosniff',
      'cache-control': 'no-store',
    },
  })
}
