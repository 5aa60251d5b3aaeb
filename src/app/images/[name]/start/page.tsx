import { StartPage } from '@/app/start-page'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Start of an image' }

export default async function ImageStartPage(props: {
  params: Promise<{ name: string }>
  searchParams: Promise<Record<string, unknown>>
}) {
  const { name } = await props.params
  return <StartPage lookedAt={{ kind: 'images', id: decodeURIComponent(name) }} query={await props.searchParams} />
}
