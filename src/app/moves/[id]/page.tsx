import { notFound, redirect } from 'next/navigation'
import { answer } from '@/server/ground/answer'
import { movePage } from '@/server/moves/page'
import { NotPossible } from '@/ui/frame/not-possible'

export const dynamic = 'force-dynamic'

/** A move opens at the station it has come to. */
export default async function MovePage({ params }: { params: Promise<{ id: string }> }) {
  const { id } = await params
  const page = await answer(() => movePage(id))
  if (!page.ok) {
    if (page.status === 404) notFound()
    return <NotPossible sentence={page.sentence} />
  }
  const { copy, rail } = page.value
  // A copy that did not end is what the person has to hear of first.
  if (copy && ['failed', 'stopped', 'interrupted'].includes(copy.status)) redirect(`/moves/${id}/copy`)
  const current = rail.find((stop) => stop.state === 'current')
  redirect(`/moves/${id}/${current?.id ?? 'handover'}`)
}
