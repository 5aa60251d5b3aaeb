import { answer, Refusal, respond } from '@/server/ground/refusal'
import { importBench } from '@/server/world/benches'

const LONGEST = 4_000_000

/** The text of a bench file makes a bench, which is shown from then on. */
export async function POST(request: Request): Promise<Response> {
  return respond(
    await answer(async () => {
      const text = await request.text()
      if (text.length > LONGEST) throw new Refusal('The file is too long for a bench. Nothing was taken from it.', 400)
      return importBench(text)
    }),
  )
}
