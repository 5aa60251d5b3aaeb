import { answer, respond } from '@/server/ground/answer'
import { Refusal } from '@/server/ground/refusals'
import { importBench } from '@/server/world/benches'

const LONGEST = 4_000_000

/** The text of a bench file makes a bench, which is shown from then on. */
export async function POST(request: Request): Promise<Response> {
  return respond(
    await answer(async () => {
      const text = await request.text()
      if (text.length > LONGEST) throw new Refusal('bench-file-too-long')
      return importBench(text)
    }),
  )
}
