import type { DriveBytes } from '@/outside/open-drive'
import type { BlockDevice } from '@/core/block/device'
import { planRoom } from '@/core/copy/plan-room'
import { CoreError } from '@/core/errors'
import { applyShrink, settleShrink, undoShrink } from '@/core/repair/shrink-in-place'
import { surveyDrive } from '@/core/survey/survey'
import type { DriveSurvey } from '@/core/survey/types'
import { sha256 } from '@/host/sha256'
import { ShrinkJournalFile } from '@/host/shrink-journal'
import type { TaskControl } from '.'
import { withTarget } from './repairs'

export interface RoomOrder {
  readonly target: DriveBytes
  /** What it was when it was read; another one is not written. */
  readonly fingerprint: string
  /** The partition that gives room, which is unallocated then. */
  readonly neighbour: number
  /** What the volume that comes needs. */
  readonly bytes: number
  /** Where what takes it back is kept. */
  readonly journal: string
}

/** Makes a volume of a drive smaller where it lies, for another one that comes beside it. Gives the drive as it is then. */
export async function makeRoom(order: RoomOrder, { progress }: Pick<TaskControl, 'progress'>): Promise<DriveSurvey> {
  const { target, fingerprint, journal: file, ...wish } = order
  return withTarget(target, async (device) => {
    const survey = await surveyDrive(device, sha256)
    if (survey.fingerprint !== fingerprint)
      throw new CoreError('The drive has changed since it was read, so nothing was written. Read the drives again.')
    const { plan } = await planRoom(device, survey, wish)
    if (!plan) throw new CoreError('There is room enough already. Nothing was written.')
    const journal = await ShrinkJournalFile.begin(file)
    try {
      await applyShrink(device, plan, journal, { onProgress: (done, total) => progress({ done, total }) })
    } catch (error) {
      await journal.close()
      await settleRoomOf(device, file)
      throw error
    }
    await journal.close()
    return surveyDrive(device, sha256)
  })
}

/** Takes room back that was made, while the drive is as that left it. Gives the drive as it is then. */
export async function giveRoomBack({
  target,
  journal: file,
}: Pick<RoomOrder, 'target' | 'journal'>): Promise<DriveSurvey> {
  return withTarget(target, async (device) => {
    const opened = await ShrinkJournalFile.open(file)
    if (!opened) throw new CoreError('Nothing was made smaller that could be taken back.')
    const { record, journal } = opened
    try {
      if (!(await settleShrink(device, record, journal))) await undoShrink(device, record, journal)
    } catch (error) {
      await journal.close()
      throw error
    }
    await journal.forget()
    return surveyDrive(device, sha256)
  })
}

/** Takes a making of room back that was cut off. True where there was one. */
export async function settleRoom({ target, journal }: Pick<RoomOrder, 'target' | 'journal'>): Promise<boolean> {
  return withTarget(target, (device) => settleRoomOf(device, journal))
}

async function settleRoomOf(device: BlockDevice, file: string): Promise<boolean> {
  const opened = await ShrinkJournalFile.open(file)
  if (!opened) return false
  const { record, journal } = opened
  let taken = false
  try {
    taken = await settleShrink(device, record, journal)
  } finally {
    if (!taken) await journal.close()
  }
  if (taken) await journal.forget()
  return taken
}
