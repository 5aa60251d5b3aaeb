// Makes the demo bench in the data folder when there is none, with --honey-house the other one that lends it a drive.
// --reset throws away what is there first.
import { rmSync } from 'node:fs'
import path from 'node:path'
import { SCENARIO_IMAGES } from '@/bench/scenario/images'
import { makeBench } from '@/server/world/make'
import { holdDataFolder } from '@/server/ground/data-folder'
import { database } from '@/server/database'
import { databaseFile, dataFolder, drivesFolder, imagesFolder, journalsFolder } from '@/server/ground/paths'

try {
  await holdDataFolder()
} catch (error) {
  console.error(error instanceof Error ? error.message : String(error))
  process.exit(1)
}
if (process.argv.includes('--reset')) {
  for (const suffix of ['', '-wal', '-shm']) rmSync(databaseFile() + suffix, { force: true })
  rmSync(drivesFolder(), { recursive: true, force: true })
  // Keys of what another bench lends; the demo's own is made anew.
  rmSync(path.join(dataFolder(), 'keys'), { recursive: true, force: true })
  // What is kept of copies and repairs is of those drives.
  rmSync(journalsFolder(), { recursive: true, force: true })
  // Images of one's own stay; those of the demo are made anew.
  for (const name of SCENARIO_IMAGES) rmSync(path.join(imagesFolder(), name), { force: true })
}
const started = Date.now()
try {
  const which = process.argv.includes('--honey-house') ? 'honey-house' : 'shop'
  if (await makeBench(which))
    console.log(`The demo’s ${which} was made in ${((Date.now() - started) / 1000).toFixed(1)} s.`)
  await (await database()).close()
} catch (error) {
  console.error(`The demo bench could not be made: ${error instanceof Error ? error.message : String(error)}`)
  process.exitCode = 1
}
