import { StartPage } from '@/app/start-page'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Start of a drive' }

export default async function DriveStartPage(props: {
  params: Promise<{ id: string }>
  searchParams: Promise<Record<string, unknown>>
}) {
  const { id } = await props.params
  return <StartPage lookedAt={{ kind: 'drives', id }} query={await props.searchParams} />
}
