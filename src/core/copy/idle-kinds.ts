/** Files that nobody misses: a system makes them anew, or has thrown them there. `page`: swap files too. */
export const IDLE_KINDS = ['page', 'hibernation', 'temporary'] as const
export type IdleKind = (typeof IDLE_KINDS)[number]
