import { BoardQuerySchema, boardState } from '@/server/pages/board'
import { headState } from '@/server/pages/head'
import { Board } from '@/ui/board/board'
import { Head } from '@/ui/frame/head'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Moves' }

export default async function BoardPage({ searchParams }: { searchParams: Promise<Record<string, unknown>> }) {
  const { find } = BoardQuerySchema.parse(await searchParams)
  const [head, board] = [await headState(), await boardState(find)]
  return (
    <>
      <Head state={head} />
      <div className="grid min-h-[calc(100dvh-52px)] lg:grid-cols-[minmax(0,1fr)_300px]">
        <Board {...board} />
      </div>
    </>
  )
}
