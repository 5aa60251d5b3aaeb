import type { StartedJob } from '.'

/** Waits for the end of a job; rejects with what it says where it did not come to one. */
export async function ended(started: Promise<StartedJob | undefined>): Promise<void> {
  const view = await (await started)?.ended
  if (view && view.state !== 'done') throw new Error(view.message ?? view.state)
}
