import { headState } from '@/server/pages/head'
import { imagesView } from '@/server/pages/images/view'
import { Head } from '@/ui/frame/head'
import { Images } from '@/ui/images/images'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Images' }

export default async function ImagesPage({ searchParams }: { searchParams: Promise<Record<string, unknown>> }) {
  const { image } = await searchParams
  const [head, view] = [await headState(), await imagesView()]
  return (
    <>
      <Head state={head} />
      <div className="grid min-h-[calc(100dvh-52px)] lg:grid-cols-[minmax(0,1fr)_300px]">
        <Images {...view} picked={typeof image === 'string' ? image : undefined} />
      </div>
    </>
  )
}
