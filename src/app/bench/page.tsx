import { BenchQuerySchema, benchView } from '@/server/pages/bench'
import { headState } from '@/server/pages/head'
import { Bench } from '@/ui/bench/bench'
import { Head } from '@/ui/frame/head'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Bench' }

export default async function BenchPage({ searchParams }: { searchParams: Promise<Record<string, unknown>> }) {
  const { find } = BenchQuerySchema.parse(await searchParams)
  const [head, view] = [await headState(), await benchView(find)]
  return (
    <>
      <Head state={head} />
      <div className="grid min-h-[calc(100dvh-52px)] lg:grid-cols-[minmax(0,1fr)_300px]">
        <Bench {...view} />
      </div>
    </>
  )
}
