import { provider } from '@/outside/provider'
import { database } from '../database'
import { activeBench } from '../world'
import { benchNow, pace } from '../world/clock'
import { DEMO_BENCH } from '../world/make'
import { lentCounts } from './lent/now'

/** What every page's head shows: bench time, its pace, which bench it is. */
export async function headState() {
  await database()
  const bench = await activeBench()
  return {
    benchNow: Math.round(await benchNow()),
    pace: provider().hasPace ? await pace() : null,
    bench: bench.name,
    isDemo: bench.id === DEMO_BENCH.id,
    isSeen: !provider().isTold,
    lent: lentCounts(),
  }
}
