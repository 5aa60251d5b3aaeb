import { create } from 'content-disposition'
import { answer, respond } from '@/server/ground/answer'
import { fileOf } from '@/server/pages/look'
import { lookQuery } from '../query'

/** A file of a volume, as a download of its name. It is never shown as a page of this server. */
export async function GET(request: Request): Promise<Response> {
  const found = await answer(async () => {
    const { subject, partition, path } = lookQuery(request)
    return fileOf(subject, partition, path)
  })
  if (!found.ok) return respond(found)
  const { name, sizeBytes, stream } = found.value
  const safe = name.replace(/[/\\\0-\x1f\x7f]+/g, '_')
  return new Response(stream, {
    headers: {
      'content-type': 'application/octet-stream',
      'content-length': String(sizeBytes),
      'content-disposition': create(safe),
      'x-content-type-options': 'nosniff',
      'cache-control': 'no-store',
    },
  })
}
