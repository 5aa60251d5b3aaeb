import { SCENARIO_START } from '@/bench/scenario/things'
import { database } from '../database'
import { ClockRow } from '../database/models'
import { singleton } from '../ground/singleton'

/** How fast bench time runs while bytes move: as in reality, thirty times that, or as fast as it goes. */
export type Pace = '1' | '30' | 'max'

interface ClockState {
  /** Bench time at `anchor`. */
  at: number
  anchor: number
  pace: Pace
}

/**
 * Bench time goes on with real time; while a copy runs, its modelled seconds are added on top. It stands
 * still while no server runs.
 */
async function state(): Promise<ClockState> {
  return singleton('clock', async () => {
    await database()
    const row = await ClockRow.findByPk(1)
    return { at: row?.at ?? SCENARIO_START, anchor: Date.now(), pace: row?.pace ?? '30' }
  })
}

/** Bench time now, in milliseconds of a calendar without time zones. */
export async function benchNow(): Promise<number> {
  const clock = await state()
  return clock.at + Date.now() - clock.anchor
}

export async function pace(): Promise<Pace> {
  return (await state()).pace
}

/** Puts bench time forward by what passed in the model beyond real time. */
export async function advance(milliseconds: number): Promise<void> {
  const clock = await state()
  clock.at += Math.max(0, milliseconds)
}

export async function setPace(value: Pace): Promise<void> {
  const clock = await state()
  clock.pace = value
  await keepClock()
}

/** Stores the clock, so that it goes on from here after a restart. */
export async function keepClock(): Promise<void> {
  const clock = await state()
  await ClockRow.upsert({ id: 1, at: Math.round(await benchNow()), pace: clock.pace })
}
