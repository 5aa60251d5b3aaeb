import { notFound } from 'next/navigation'
import { answer } from '@/server/ground/answer'
import { headState } from '@/server/pages/head'
import { imageView } from '@/server/pages/images/view'
import { Head } from '@/ui/frame/head'
import { NotPossible } from '@/ui/frame/not-possible'
import { ImageLook } from '@/ui/images/image-look'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Image' }

export default async function ImagePage({ params }: { params: Promise<{ name: string }> }) {
  const { name } = await params
  const found = await answer(() => imageView(decodeURIComponent(name)))
  if (!found.ok) {
    if (found.status === 404) notFound()
    return <NotPossible heading="This image cannot be read" sentence={found.sentence} />
  }
  return (
    <>
      <Head state={await headState()} />
      <div className="grid min-h-[calc(100dvh-52px)] lg:grid-cols-[minmax(0,1fr)_300px]">
        <ImageLook {...found.value} />
      </div>
    </>
  )
}
