import * as z from 'zod'
import { LookedAtSchema } from '@/server/world/looked-at'

const Query = z.object({
  partition: z.coerce.number().int().min(0).max(100_000).default(0),
  lba: z.coerce.number().int().min(0).default(0),
  path: z.string().max(4096).default('/'),
})

/** What a request asks to look at. Throws ZodError. */
export function lookQuery(request: Request) {
  const values = Object.fromEntries(new URL(request.url).searchParams)
  return { subject: LookedAtSchema.parse(values), ...Query.parse(values) }
}
