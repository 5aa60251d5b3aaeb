import * as z from 'zod'
import { answer, refusedFor, respond } from '@/server/ground/answer'
import { runTask } from '@/server/jobs/threads'
import { LookedAtSchema, subjectOf } from '@/server/world/looked-at'

const Query = LookedAtSchema.extend({
  partition: z.coerce.number().int().min(0).max(100_000).optional(),
  words: z
    .string()
    .trim()
    .min(1, 'Type a part of the name')
    .max(200)
    .transform((text) => text.split(/\s+/)),
})

/**
 * Files and folders by name: lines of JSON as the search goes, `{looked, at, found}`, and `{end}` or `{sentence}` as the
 * last. Who hangs up stops it.
 */
export async function GET(request: Request): Promise<Response> {
  const asked = await answer(async () => {
    const query = Query.parse(Object.fromEntries(new URL(request.url).searchParams))
    return { query, subject: await subjectOf(query) }
  })
  if (!asked.ok) return respond(asked)
  const { query, subject } = asked.value
  const abort = new AbortController()
  const stream = new ReadableStream<Uint8Array>({
    async start(controller) {
      const text = new TextEncoder()
      const say = (line: unknown) => {
        if (!abort.signal.aborted) controller.enqueue(text.encode(`${JSON.stringify(line)}\n`))
      }
      try {
        const end = await runTask(
          'searchFiles',
          { subject, partition: query.partition, words: query.words },
          {
            long: true,
            signal: abort.signal,
            onProgress: ({ done, title, found }) => say({ looked: done, at: title, found }),
          },
        )
        say({ end })
      } catch (error) {
        if (!abort.signal.aborted) say({ sentence: refusedFor(error).sentence })
      }
      if (!abort.signal.aborted) controller.close()
    },
    cancel() {
      abort.abort()
    },
  })
  return new Response(stream, { headers: { 'content-type': 'application/x-ndjson', 'cache-control': 'no-store' } })
}
