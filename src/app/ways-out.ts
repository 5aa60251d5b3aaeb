import type { Refused } from '@/server/ground/answer'

/** Where a page leads that could not be shown. */
export function waysOutOf({ code }: Refused): { label: string; href: string }[] {
  return code === 'drive-not-here' ? [{ label: 'Open what other benches lend', href: '/lent' }] : []
}
