import { database } from '@/server/database'
import { dataFolder } from '@/server/ground/paths'
import { layDemoBench } from './demo-bench'

/** Opens the data folder of a test with the demo's bench in it. */
export async function openDemoBench(): Promise<void> {
  await layDemoBench(dataFolder())
  await database()
}
