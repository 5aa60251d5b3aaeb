// Makes the demo bench in the data folder when there is none. --reset throws away what is there first.
import { rmSync } from 'node:fs'
import { makeBench } from '@/server/bench/make'
import { database } from '@/server/database'
import { databaseFile, drivesFolder } from '@/server/paths'

if (process.argv.includes('--reset')) {
  for (const suffix of ['', '-wal', '-shm']) rmSync(databaseFile() + suffix, { force: true })
  rmSync(drivesFolder(), { recursive: true, force: true })
}
const started = Date.now()
try {
  if (await makeBench()) console.log(`The demo bench was made in ${((Date.now() - started) / 1000).toFixed(1)} s.`)
  await (await database()).close()
} catch (error) {
  console.error(`The demo bench could not be made: ${error instanceof Error ? error.message : String(error)}`)
  process.exitCode = 1
}
