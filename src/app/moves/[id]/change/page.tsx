import { notFound } from 'next/navigation'
import { headState } from '@/server/head'
import { moveForm } from '@/server/intake/form'
import { answer } from '@/server/refusal'
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
