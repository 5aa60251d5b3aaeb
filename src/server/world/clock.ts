import type { Pace, StoredClock } from '@/core/outside/port'
import { provider } from '@/outside/provider'
import { database } from '../database'
import { ClockRow } from '../database/models'
import { singleton } from '../ground/singleton'

interface ClockState {
  /** As it was read at `anchor`. */
  readonly stored: StoredClock
  readonly anchor: number
  /** What passed in the model besides, in milliseconds. */
  beyond: number
  pace: Pace
}

/**
 * Bench time is what the world of the bench has for one. That of a simulated one goes on with real time; while a copy
 * runs, its modelled seconds are added on top, and it stands still while no server runs.
 */
async function state(): Promise<ClockState> {
  return singleton('clock', async () => {
    await database()
    const stored: StoredClock = (await ClockRow.findByPk(1)) ?? provider().firstClock
    return { stored: { at: stored.at, pace: stored.pace }, anchor: Date.now(), beyond: 0, pace: stored.pace }
  })
}

/** Bench time now, in milliseconds of a calendar without time zones. */
export async function benchNow(): Promise<number> {
  const { stored, anchor, beyond } = await state()
  return provider().now(stored, Date.now() - anchor, beyond)
}

export async function pace(): Promise<Pace> {
  return (await state()).pace
}

/** Puts bench time forward by what passed in the model beyond real time. */
export async function advance(milliseconds: number): Promise<void> {
  const clock = await state()
  clock.beyond += Math.max(0, milliseconds)
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
