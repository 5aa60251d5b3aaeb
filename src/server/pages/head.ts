import { database } from '../database'
import { moveClaims } from '../moves/claims'
import { activeBench } from '../world'
import { benchNow, pace } from '../world/clock'
import { DEMO_BENCH } from '../world/make'

/** What every page's head shows: bench time, its pace, the moves for the palette. */
export async function headState() {
  await database()
  const bench = await activeBench()
  const moves = await moveClaims(bench.id)
  return {
    benchNow: Math.round(await benchNow()),
    pace: await pace(),
    bench: bench.name,
    isDemo: bench.id === DEMO_BENCH.id,
    moves: moves.map(({ id, name, customer }) => ({ id, title: `${name}, ${customer}` })),
  }
}
