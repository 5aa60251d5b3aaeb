import * as z from 'zod'
import { FitFileSchema } from '@/core/fit/fit-file'

/** The JSON schema of a fit file. */
export function GET(): Response {
  return Response.json(z.toJSONSchema(FitFileSchema, { io: 'input' }))
}
