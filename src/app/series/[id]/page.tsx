import { notFound } from 'next/navigation'
import { answer } from '@/server/ground/answer'
import { headState } from '@/server/pages/head'
import { seriesState } from '@/server/pages/series'
import { Head } from '@/ui/frame/head'
import { NotPossible } from '@/ui/frame/not-possible'
import { Series } from '@/ui/series/series'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Series' }

export default async function SeriesPage({ params }: { params: Promise<{ id: string }> }) {
  const { id } = await params
  const found = await answer(() => seriesState(id))
  if (!found.ok) {
    if (found.status === 404) notFound()
    return <NotPossible heading="This series cannot be shown" sentence={found.sentence} />
  }
  return (
    <>
      <Head state={await headState()} />
      <div className="grid min-h-[calc(100dvh-52px)] lg:grid-cols-[minmax(0,1fr)_300px]">
        <Series {...found.value} />
      </div>
    </>
  )
}
