import { notFound } from 'next/navigation'
import { waysOutOf } from '@/app/ways-out'
import { answer } from '@/server/ground/answer'
import { headState } from '@/server/pages/head'
import { startView } from '@/server/pages/start'
import type { LookedAt } from '@/server/world/looked-at'
import { Head } from '@/ui/frame/head'
import { NotPossible } from '@/ui/frame/not-possible'
import { StartLook } from '@/ui/look/start-look'

/** The start of a drive or an image, followed without a move. */
export async function StartPage({ lookedAt, query }: { lookedAt: LookedAt; query: unknown }) {
  const found = await answer(() => startView(lookedAt, query))
  if (!found.ok) {
    if (found.status === 404) notFound()
    return <NotPossible heading="Its start cannot be followed" sentence={found.sentence} links={waysOutOf(found)} />
  }
  return (
    <>
      <Head state={await headState()} />
      <div className="grid min-h-[calc(100dvh-52px)] lg:grid-cols-[minmax(0,1fr)_300px]">
        <StartLook key={`${lookedAt.id} ${found.value.mode}`} {...found.value} />
      </div>
    </>
  )
}
