import { Sequelize, Transaction } from 'sequelize'
import { holdEvents } from '../ground/events'
import { inBenchQueue } from '../ground/queue'
import { touchChanged, versionsNow } from './models'
import { isInTransaction, transactionContext } from './transaction-context'
import { database } from '.'

// oxlint-disable-next-line react/rules-of-hooks -- no hook, in spite of its name
Sequelize.useCLS(transactionContext)

/**
 * Makes a change of several statements in the turn of the bench: all of it is stored, or none of it is, and pages are
 * told when it is. Within such a change it belongs to that one. For what takes no longer than a moment; no job is
 * started in it.
 */
export async function inTransaction<T>(change: () => Promise<T>): Promise<T> {
  if (isInTransaction()) return change()
  const sequelize = await database()
  return inBenchQueue(() =>
    holdEvents(async () => {
      const before = versionsNow()
      try {
        // It takes the right to write at its beginning, so that what it decides about is as it was when it is stored.
        return await sequelize.transaction({ type: Transaction.TYPES.IMMEDIATE }, change)
      } finally {
        // Whoever read in the meantime has read what was stored before.
        touchChanged(before)
      }
    }),
  )
}
