import { headState } from '@/server/pages/head'
import { moveForm } from '@/server/stations/intake/form'
import { Head } from '@/ui/frame/head'
import { MoveForm } from '@/ui/intake/move-form'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'New move' }

export default async function NewMovePage() {
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
