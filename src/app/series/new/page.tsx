import { headState } from '@/server/pages/head'
import { seriesForm } from '@/server/pages/series'
import { Head } from '@/ui/frame/head'
import { SeriesForm } from '@/ui/series/series-form'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'New series' }

export default async function NewSeriesPage() {
  const [head, form] = [await headState(), await seriesForm()]
  return (
    <>
      <Head state={head} />
      <div className="grid min-h-[calc(100dvh-52px)] lg:grid-cols-[minmax(0,1fr)_300px]">
        <SeriesForm {...form} />
      </div>
    </>
  )
}
