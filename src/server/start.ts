import { CoreError } from '@/core/errors'
import { isLoopback } from './access/names'
import { needsPassphrase } from './access/passphrase'
import { database } from './database'
import { log } from './ground/log'
import { clearPartial } from './images'
import { settleJobs } from './jobs'
import { recover } from './moves/copies'
import { watchSeries } from './pages/series/prepare'
import { settleRooms } from './stations/fit/room'
import { followSeenDrives } from './stations/swap/follow'
import { settleImport } from './world/benches'
import { takeUpBorrowed } from './world/borrowed'
import { refuseLostDatabase } from './world/make'
import { refuseOtherWorld, watchDrives } from './world/seen'

/** Takes the data folder, opens the database and ends what the last server left. Ends the process where it cannot. */
export async function start(): Promise<void> {
  try {
    refuseOpenDoor()
    await database()
    await refuseLostDatabase()
    await refuseOtherWorld()
    await settleImport()
    await clearPartial()
    await settleJobs()
    await recover()
    await settleRooms()
    await takeUpBorrowed()
    followSeenDrives()
    await watchDrives()
    watchSeries()
  } catch (error) {
    if (!(error instanceof CoreError)) log.error(error)
    const why = error instanceof Error ? error.message : String(error)
    console.error(error instanceof CoreError ? why : `The data folder cannot be used: ${why}`)
    process.exit(1)
  }
}

/** A server that others in the network can reach has a passphrase. */
function refuseOpenDoor(): void {
  const at = process.argv.findIndex((argument) => argument === '-H' || argument === '--hostname')
  const host = process.env.IMBARCO_LISTENS_ON ?? (at < 0 ? '127.0.0.1' : process.argv[at + 1])
  if (isLoopback(host) || needsPassphrase()) return
  throw new CoreError(
    `This server would listen on ${host}, which others in the network can reach. Set a passphrase first, with npm run passphrase.`,
  )
}
