import { answer } from '@/server/ground/answer'
import { headState } from '@/server/pages/head'
import { lentState } from '@/server/pages/lent'
import { Head } from '@/ui/frame/head'
import { NotPossible } from '@/ui/frame/not-possible'
import { Lent } from '@/ui/lent/lent'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Lent' }

export default async function LentPage({ searchParams }: { searchParams: Promise<Record<string, unknown>> }) {
  const asked = await searchParams
  const found = await answer(() => lentState(asked))
  if (!found.ok) return <NotPossible heading="This cannot be lent" sentence={found.sentence} />
  return (
    <>
      <Head state={await headState()} />
      <div className="grid min-h-[calc(100dvh-52px)] grid-cols-[minmax(0,1fr)] content-start lg:grid-cols-[minmax(0,1fr)_300px] lg:content-stretch">
        <Lent {...found.value} />
      </div>
    </>
  )
}
