import { log } from '../ground/log'
import { StoredDamaged } from './json'

/** What is stored in rows. One that does not have its form is left out, and keeps nobody from the others. */
export function readable<R extends { readonly id: string }, T>(
  rows: readonly R[],
  read: (row: R) => T,
): { found: T[]; unreadable: string[] } {
  const found: T[] = []
  const unreadable: string[] = []
  for (const row of rows) {
    try {
      found.push(read(row))
    } catch (error) {
      if (!(error instanceof StoredDamaged)) throw error
      log.error({ err: error.cause, id: row.id }, error.message)
      unreadable.push(row.id)
    }
  }
  return { found, unreadable }
}
