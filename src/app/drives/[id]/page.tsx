import { notFound } from 'next/navigation'
import { waysOutOf } from '@/app/ways-out'
import { answer } from '@/server/ground/answer'
import { driveView } from '@/server/pages/bench'
import { imagesOf } from '@/server/pages/images/on-drives'
import { comparableWith } from '@/server/pages/images/view'
import { headState } from '@/server/pages/head'
import { surveyOf } from '@/server/world/looked-at'
import { Head } from '@/ui/frame/head'
import { NotPossible } from '@/ui/frame/not-possible'
import { DriveImages } from '@/ui/images/drive-images'
import { DriveLook } from '@/ui/look/drive-look'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Drive' }

export default async function DrivePage({ params }: { params: Promise<{ id: string }> }) {
  const { id } = await params
  const found = await answer(async () => {
    const view = await driveView(id)
    const disk = { kind: 'drives', id } as const
    const survey = await surveyOf(disk)
    return { ...view, survey, comparable: await comparableWith(disk), ...(await imagesOf(id, survey)) }
  })
  if (!found.ok) {
    if (found.status === 404) notFound()
    return <NotPossible heading="This drive cannot be read" sentence={found.sentence} links={waysOutOf(found)} />
  }
  const { images, stores, ...view } = found.value
  return (
    <>
      <Head state={await headState()} />
      <div className="grid min-h-[calc(100dvh-52px)] lg:grid-cols-[minmax(0,1fr)_300px]">
        <DriveLook
          {...view}
          more={
            <DriveImages
              drive={{ ...view.drive, id }}
              images={images}
              stores={stores}
              partitions={view.survey.partitions.filter((p) => p.role !== 'extended')}
            />
          }
        />
      </div>
    </>
  )
}
