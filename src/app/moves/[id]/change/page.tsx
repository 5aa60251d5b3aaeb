import { notFound } from 'next/navigation'
import { answer } from '@/server/ground/answer'
import { headState } from '@/server/pages/head'
import { moveForm } from '@/server/stations/intake/form'
import { Head } from '@/ui/frame/head'
import { MoveForm } from '@/ui/intake/move-form'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Change the move' }

export default async function ChangeMovePage({ params }: { params: Promise<{ id: string }> }) {
  const { id } = await params
  const form = await answer(() => moveForm(id))
  if (!form.ok) notFound()
  return (
    <>
      <Head state={await headState()} />
      <div className="grid min-h-[calc(100dvh-52px)] lg:grid-cols-[minmax(0,1fr)_300px]">
        <MoveForm {...form.value} />
      </div>
    </>
  )
}
