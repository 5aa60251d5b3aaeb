import * as z from 'zod'
import { BenchFileSchema } from '@/core/things/bench-file'

/** The JSON schema of a bench file. */
export function GET(): Response {
  return Response.json(z.toJSONSchema(BenchFileSchema, { io: 'input' }))
}
