import { headState } from '@/server/pages/head'
import { PastQuerySchema, pastMoves } from '@/server/pages/past'
import { Past } from '@/ui/board/past'
import { Head } from '@/ui/frame/head'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Past moves' }

type Props = { searchParams: Promise<Record<string, string | string[] | undefined>> }

export default async function PastPage({ searchParams }: Props) {
  const { q } = PastQuerySchema.parse(await searchParams)
  const [head, past] = [await headState(), await pastMoves(q)]
  return (
    <>
      <Head state={head} />
      <Past {...past} />
    </>
  )
}
