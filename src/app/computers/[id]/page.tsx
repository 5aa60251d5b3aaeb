import { notFound } from 'next/navigation'
import { waysOutOf } from '@/app/ways-out'
import { answer } from '@/server/ground/answer'
import { headState } from '@/server/pages/head'
import { computerPage } from '@/server/world/computers'
import { ComputerStation } from '@/ui/computer/computer-station'
import { Head } from '@/ui/frame/head'
import { NotPossible } from '@/ui/frame/not-possible'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Computer' }

export default async function ComputerPage({ params }: { params: Promise<{ id: string }> }) {
  const { id } = await params
  const found = await answer(() => computerPage(id))
  if (!found.ok) {
    if (found.status === 404) notFound()
    return (
      <NotPossible heading="This computer cannot be looked at" sentence={found.sentence} links={waysOutOf(found)} />
    )
  }
  return (
    <>
      <Head state={await headState()} />
      <div className="grid min-h-[calc(100dvh-52px)] grid-cols-[minmax(0,1fr)] content-start lg:grid-cols-[minmax(0,1fr)_300px] lg:content-stretch">
        <ComputerStation {...found.value} />
      </div>
    </>
  )
}
