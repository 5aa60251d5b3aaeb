import type { BlockDevice } from '../block/device'
import { CoreError } from '../errors'
import { changesNothing, planRepair } from '../repair'
import { applyRepair, type RepairJournal } from '../repair/apply'
import type { RepairPlan } from '../repair/port'

/** What of a target's start was changed, and why the rest of it could not be. */
export interface LetStart {
  readonly made: readonly RepairPlan[]
  readonly problem: string | null
}

export interface StartOfPut {
  /** The number of the partition that the system came into. */
  readonly system: number
  readonly scheme: string
  /** FILETIME that changed structures get. */
  readonly time: bigint
  /** Sixteen bytes by chance, anew each time. */
  readonly chance: () => Uint8Array
  /** Where a change is kept, so that it can be taken back. */
  readonly journalFor: () => Promise<RepairJournal>
}

/**
 * Has the boot settings of a drive start the system that came onto it, beside those that are there, or makes some for it;
 * then the system itself is told which volume is C. What cannot be done leaves the volume in its place, and is said.
 */
export async function letStart(
  device: BlockDevice,
  { system, scheme, time, chance, journalFor }: StartOfPut,
): Promise<LetStart> {
  const question = () => ({
    ...{ device, system, time, chance: chance() },
    mode: scheme === 'gpt' ? ('uefi' as const) : ('bios' as const),
  })
  const made: RepairPlan[] = []
  try {
    const entry = await planRepair('system-entry', question()).catch((error: unknown) => {
      if (!(error instanceof CoreError)) throw error
      return planRepair('new-store', question())
    })
    for (const plan of [entry, await planRepair('drive-letters', question())]) {
      if (changesNothing(plan)) continue
      await applyRepair(device, plan, await journalFor())
      made.push(plan)
    }
    return { made, problem: null }
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
    return { made, problem: error.message }
  }
}
