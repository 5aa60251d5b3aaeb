import type { BlockDevice } from '../block/device'
import { CoreError } from '../errors'
import { changesNothing, planRepair, type RepairQuestion } from '../repair'
import { applyRepair, type RepairJournal } from '../repair/apply'
import type { MovedVolume } from '../repair/moved'
import type { RepairPlan } from '../repair/port'

/** What of a target's start was changed, and why the rest of it could not be. */
export interface LetStart {
  readonly made: readonly RepairPlan[]
  readonly problem: string | null
}

export interface StartWish {
  readonly scheme: string
  /** FILETIME that changed structures get. */
  readonly time: bigint
  /** Sixteen bytes by chance, anew each time. */
  readonly chance: () => Uint8Array
  /** Where a change is kept, so that it can be taken back. */
  readonly journalFor: () => Promise<RepairJournal>
}

export interface StartOfPut extends StartWish {
  /** The number of the partition that the system came into. */
  readonly system: number
}

export interface StartBeside extends StartWish {
  /** The numbers of all partitions with a system. */
  readonly systems: readonly number[]
  /** Every volume under its old name and its new one. */
  readonly moved: readonly MovedVolume[]
}

/**
 * Has the boot settings of a drive start the system that came onto it, beside those that are there, or makes some for it;
 * then the system itself is told which volume is C. What cannot be done leaves the volume in its place, and is said.
 */
export async function letStart(device: BlockDevice, wish: StartOfPut): Promise<LetStart> {
  const { system } = wish
  return changed(device, wish, [
    async (question) =>
      planRepair('system-entry', { ...question, system }).catch((error: unknown) => {
        if (!(error instanceof CoreError)) throw error
        return planRepair('new-store', { ...question, system })
      }),
    async (question) => planRepair('drive-letters', { ...question, system }),
  ])
}

/**
 * Has a copy whose drive and partitions have identities of their own start by itself while its source is in the computer,
 * too: its boot settings and the drive letters of its systems name its own partitions in place of the source's. What
 * cannot be done leaves the copy as it is, and is said.
 */
export async function letStartBeside(device: BlockDevice, wish: StartBeside): Promise<LetStart> {
  const { moved, systems } = wish
  return changed(device, wish, [
    async (question) => planRepair('point-store', { ...question, moved }),
    ...systems.map(
      (system) => async (question: RepairQuestion) => planRepair('drive-letters', { ...question, moved, system }),
    ),
  ])
}

/** Makes changes one after the other, each planned on what those before it left. */
async function changed(
  device: BlockDevice,
  { scheme, time, chance, journalFor }: StartWish,
  plans: readonly ((question: RepairQuestion) => Promise<RepairPlan>)[],
): Promise<LetStart> {
  const made: RepairPlan[] = []
  try {
    for (const planFor of plans) {
      const mode = scheme === 'gpt' ? ('uefi' as const) : ('bios' as const)
      const plan = await planFor({ device, time, chance: chance(), mode })
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
