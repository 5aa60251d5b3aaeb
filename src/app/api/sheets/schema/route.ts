import * as z from 'zod'
import { SheetSchema } from '@/core/handover/sheet'

/** The JSON schema of a sheet. */
export function GET(): Response {
  return Response.json(z.toJSONSchema(SheetSchema, { io: 'output' }))
}
