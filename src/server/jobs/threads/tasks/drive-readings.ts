import type { BlockDevice } from '@/core/block/device'
import { loaderOn, type SignedLoader } from '@/core/boot/loader-on'
import { type DeviceKind, packageFor, type WantedDriver } from '@/core/drivers/device'
import type { InstalledDriver } from '@/core/drivers/installed'
import { driversOn, fixedAddressesOn } from '@/core/drivers/on-drive'
import type { DriverFolder } from '@/core/drivers/packages'
import { CoreError, orUndefined } from '@/core/errors'
import { rehearseFit } from '@/core/fit/rehearse'
import type { FitObstacle, Layout } from '@/core/fit/types'
import type { DriverAtHand } from '@/core/ready/port'
import { changesNothing, planRepair, type RepairQuestion } from '@/core/repair'
import type { FixedAddress } from '@/core/registry/addresses'
import type { DriveSurvey } from '@/core/survey/types'
import { withDriversOf } from '@/host/driver-stick'
import { sha256 } from '@/host/sha256'
import type { DriveBytes } from '@/outside/open-drive'
import { withSubject } from './subject'

// What stations ask of a drive besides its survey. Nothing is written.

export interface GoalOrder {
  readonly drive: DriveBytes
  readonly survey: DriveSurvey
  readonly controller: WantedDriver
  readonly card?: WantedDriver
  /** Who signed the loader is asked, too. */
  readonly asksLoader: boolean
  /** An image of a stick with drivers. */
  readonly stick?: string
}

interface ForDevice {
  readonly installed?: readonly InstalledDriver[]
  readonly atHand?: DriverAtHand
}

/** What the system on a drive has for another computer, and what the stick has. */
export interface GoalReading {
  readonly storage: ForDevice
  readonly network?: ForDevice
  readonly loader?: SignedLoader
}

export function readForGoal({ drive, survey, controller, card, asksLoader, stick }: GoalOrder): Promise<GoalReading> {
  return withDriversOf(stick, (folder) =>
    looking(drive, async (device) => {
      const of = async (kind: DeviceKind, wanted: WantedDriver): Promise<ForDevice> => {
        const installed = await driversOn(device, survey, wanted.drivers)
        return { ...(installed ? { installed } : {}), ...atHand(folder, kind, wanted) }
      }
      // One at a time: each of them reads the drive.
      const storage = await of('storage', controller)
      const network = card && (await of('network', card))
      const loader = asksLoader ? await loaderOn(device, survey, sha256) : undefined
      return { storage, ...(network ? { network } : {}), ...(loader ? { loader } : {}) }
    }),
  )
}

function atHand(folder: DriverFolder | undefined, kind: DeviceKind, wanted: WantedDriver): { atHand?: DriverAtHand } {
  const found = folder && packageFor(folder.packages, kind, wanted)
  return found ? { atHand: { service: found.service, name: found.name, folder: found.folder } } : {}
}

export interface AddressesOrder {
  readonly drive: DriveBytes
  readonly survey: DriveSurvey
}

/** The fixed addresses that the system on a drive has; none where it cannot be told. */
export async function readAddresses({ drive, survey }: AddressesOrder): Promise<FixedAddress[]> {
  return (await looking(drive, (device) => fixedAddressesOn(device, survey)).catch(orUndefined)) ?? []
}

export interface DriversOrder {
  readonly drive: DriveBytes
  readonly survey: DriveSurvey
  /** Names of services. */
  readonly asked: readonly string[]
}

/** Which of these drivers the system on a drive has; undefined where it cannot be told. */
export function readDrivers({ drive, survey, asked }: DriversOrder): ReturnType<typeof driversOn> {
  return looking(drive, (device) => driversOn(device, survey, asked))
}

export interface RehearsalOrder {
  readonly drive: DriveBytes
  readonly layout: Layout
}

/** What on a source would keep a layout from being written. Rejects with CoreError. */
export function rehearseLayout({ drive, layout }: RehearsalOrder): Promise<FitObstacle[]> {
  return looking(drive, (device) => rehearseFit(device, layout))
}

export interface RepairsOrder {
  readonly drive: DriveBytes
  readonly names: readonly string[]
  readonly question: Omit<RepairQuestion, 'device' | 'driverFolder'>
  readonly stick?: string
}

/** What a repair would do to a drive, or why it cannot be done. */
export interface PlannedRepair {
  readonly name: string
  readonly title: string
  readonly changes: readonly string[]
  readonly changesNothing: boolean
  /** The firmware of the computer is changed, too. */
  readonly setsFirmware: boolean
  readonly why: string | null
}

/** Works out what each of these repairs would change. */
export function planRepairs({ drive, names, question, stick }: RepairsOrder): Promise<PlannedRepair[]> {
  return withDriversOf(stick, (driverFolder) =>
    looking(drive, async (device) => {
      const planned: PlannedRepair[] = []
      for (const name of names) {
        try {
          const plan = await planRepair(name, { device, ...question, ...(driverFolder ? { driverFolder } : {}) })
          const { title, changes, firmware } = plan
          const does = { changesNothing: changesNothing(plan), setsFirmware: firmware !== undefined }
          planned.push({ name, title, changes, ...does, why: null })
        } catch (error) {
          if (!(error instanceof CoreError)) throw error
          const nothing = { title: '', changes: [], changesNothing: true, setsFirmware: false }
          planned.push({ name, ...nothing, why: error.message })
        }
      }
      return planned
    }),
  )
}

const looking = <T>(drive: DriveBytes, work: (device: BlockDevice) => Promise<T>) =>
  withSubject({ kind: 'drive', drive }, work)
