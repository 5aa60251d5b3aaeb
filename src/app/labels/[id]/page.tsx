import { notFound } from 'next/navigation'
import { answer } from '@/server/ground/answer'
import { labelView } from '@/server/pages/shelf'
import { Label } from '@/ui/shelf/label'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Label' }

export default async function LabelPage({ params }: { params: Promise<{ id: string }> }) {
  const { id } = await params
  const found = await answer(() => labelView(id))
  if (!found.ok) notFound()
  return <Label label={found.value} />
}
