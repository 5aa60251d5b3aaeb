import { type DriveBytes, openToLook } from '@/outside/open-drive'
import { checkMaps } from '@/core/survey/check-maps'
import type { DriveSurvey } from '@/core/survey/types'
import type { TaskControl } from '.'

/** Drives whose maps are to be held against their files, as they were read. */
export type MapsOrder = readonly { readonly bytes: DriveBytes; readonly survey: DriveSurvey }[]

/** The surveys with what was found, in the order of the drives. Throws CoreError where a drive cannot be opened. */
export async function checkDriveMaps(order: MapsOrder, { progress }: TaskControl): Promise<DriveSurvey[]> {
  const surveys: DriveSurvey[] = []
  for (const { bytes, survey } of order) {
    const { device, close } = await openToLook(bytes)
    try {
      surveys.push(await checkMaps(device, survey, ({ title }, files) => progress({ title, done: files, total: 0 })))
    } finally {
      await close()
    }
  }
  return surveys
}
