// Brings moves to a station without pages: a process of its own on a data folder that no server has yet. Its arguments
// are pairs of a move and how far it is to come.
import './bundled-threads'
import type { Reached } from './stages'

const { database } = await import('@/server/database')
const { jobEnd, runningJobs } = await import('@/server/jobs')
const { lockByDefault, settleList, takeFirstRoute, toRoute } = await import('./carry-out')

/** What brings a move one station on, in their order. */
const STAGES: Record<Reached, (move: string) => Promise<unknown>> = {
  surveyed: toRoute,
  routed: takeFirstRoute,
  fitted: lockByDefault,
  settled: settleList,
}

await database()
const wanted = process.argv.slice(2)
for (let at = 0; at < wanted.length; at += 2) {
  const [move, reached] = wanted.slice(at, at + 2)
  for (const [stage, bring] of Object.entries(STAGES)) {
    await bring(move)
    if (stage === reached) break
  }
}
// What was begun on the way would be cut off.
for (const { id } of runningJobs()) await jobEnd(id)
process.exit()
