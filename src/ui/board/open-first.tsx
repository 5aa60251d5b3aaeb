'use client'

import { useRouter } from 'next/navigation'
import { NextAction } from '@/ui/frame/next-action'

/** Goes to the move that waits first. */
export function OpenFirst({ href, label }: { href: string; label: string }) {
  const router = useRouter()
  return <NextAction label={label} onAct={() => router.push(href)} />
}
