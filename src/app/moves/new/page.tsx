import { answer } from '@/server/ground/answer'
import { headState } from '@/server/pages/head'
import { moveForm } from '@/server/stations/intake/form'
import { systemForm } from '@/server/stations/intake/from-disk'
import { Head } from '@/ui/frame/head'
import { NotPossible } from '@/ui/frame/not-possible'
import { MoveForm } from '@/ui/intake/move-form'
import { SystemForm } from '@/ui/intake/system-form'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'New move' }

/** A new move: from the bench's things, or with `?drive=ID` or `?image=NAME` from a disk. */
export default async function NewMovePage({ searchParams }: { searchParams: Promise<Record<string, unknown>> }) {
  const { drive, image } = await searchParams
  const of = drive === undefined ? { kind: 'images', id: image } : { kind: 'drives', id: drive }
  if (of.id === undefined) {
    const [head, form] = [await headState(), await moveForm()]
    return (
      <>
        <Head state={head} />
        <div className="grid min-h-[calc(100dvh-52px)] lg:grid-cols-[minmax(0,1fr)_300px]">
          <MoveForm {...form} />
        </div>
      </>
    )
  }
  const found = await answer(() => systemForm(of))
  if (!found.ok) return <NotPossible heading="This disk cannot be read" sentence={found.sentence} />
  return (
    <>
      <Head state={await headState()} />
      <div className="grid min-h-[calc(100dvh-52px)] lg:grid-cols-[minmax(0,1fr)_300px]">
        <SystemForm {...found.value} />
      </div>
    </>
  )
}
