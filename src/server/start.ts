import { CoreError } from '@/core/errors'
import { settleImport } from './world/benches'
import { recover } from './moves/copies'
import { database } from './database'
import { clearPartial } from './images'
import { settleJobs } from './jobs'
import { log } from './ground/log'

/** Takes the data folder, opens the database and ends what the last server left. Ends the process where it cannot. */
export async function start(): Promise<void> {
  try {
    await database()
    await settleImport()
    await clearPartial()
    await settleJobs()
    await recover()
  } catch (error) {
    if (!(error instanceof CoreError)) log.error(error)
    const why = error instanceof Error ? error.message : String(error)
    console.error(error instanceof CoreError ? why : `The data folder cannot be used: ${why}`)
    process.exit(1)
  }
}
