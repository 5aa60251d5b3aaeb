import { LoginForm } from '@/ui/frame/login-form'

export const dynamic = 'force-dynamic'

export const metadata = { title: 'Locked' }

export default async function LoginPage({ searchParams }: { searchParams: Promise<Record<string, unknown>> }) {
  const { why } = await searchParams
  return <LoginForm why={why === 'wrong' || why === 'wait' ? why : undefined} />
}
