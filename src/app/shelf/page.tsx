import { headState } from '@/server/pages/head'
import { shelfState } from '@/server/pages/shelf'
import { Head } from '@/ui/frame/head'
import { Shelf } from '@/ui/shelf/shelf'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Shelf' }

export default async function ShelfPage() {
  const [head, shelf] = [await headState(), await shelfState()]
  return (
    <>
      <Head state={head} />
      <div className="grid min-h-[calc(100dvh-52px)] grid-cols-[minmax(0,1fr)] content-start lg:grid-cols-[minmax(0,1fr)_300px] lg:content-stretch">
        <Shelf {...shelf} />
      </div>
    </>
  )
}
