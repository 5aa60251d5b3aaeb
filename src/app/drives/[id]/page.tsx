import { notFound } from 'next/navigation'
import { answer } from '@/server/ground/answer'
import { driveView } from '@/server/pages/bench'
import { comparableWith } from '@/server/pages/images/view'
import { headState } from '@/server/pages/head'
import { surveyOf } from '@/server/world/looked-at'
import { Head } from '@/ui/frame/head'
import { NotPossible } from '@/ui/frame/not-possible'
import { DriveLook } from '@/ui/look/drive-look'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Drive' }

export default async function DrivePage({ params }: { params: Promise<{ id: string }> }) {
  const { id } = await params
  const found = await answer(async () => {
    const view = await driveView(id)
    const disk = { kind: 'drives', id } as const
    return { view, survey: await surveyOf(disk), comparable: await comparableWith(disk) }
  })
  if (!found.ok) {
    if (found.status === 404) notFound()
    return <NotPossible heading="This drive cannot be read" sentence={found.sentence} />
  }
  return (
    <>
      <Head state={await headState()} />
      <div className="grid min-h-[calc(100dvh-52px)] lg:grid-cols-[minmax(0,1fr)_300px]">
        <DriveLook {...found.value.view} survey={found.value.survey} comparable={found.value.comparable} />
      </div>
    </>
  )
}
