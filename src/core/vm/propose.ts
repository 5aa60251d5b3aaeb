import { firmwareTold } from '../boot/told'
import { GIB } from '../bytes/size'
import { type InstalledDriver, isEarly, isThere } from '../drivers/installed'
import type { DriveSurvey } from '../survey/types'
import { CONTROLLER_DRIVERS, CONTROLLER_NAMES, CONTROLLERS, type ControllerKind, type VirtualMachine } from './types'

/** What a proposal rests on, and what it is told to be. */
export interface VmQuestion {
  readonly name: string
  /** Of each drive, the system's first; with the name of the image that its disk becomes. */
  readonly drives: readonly { readonly survey: DriveSurvey; readonly file: string }[]
  /** What the system has of the drivers that controllers need; undefined where it cannot be told. */
  readonly drivers: readonly InstalledDriver[] | undefined
  /** Of the physical machine, where it is known. */
  readonly memoryBytes?: number
  readonly processors?: number
  /** Why its disks have the format that they have, as a sentence, where that was chosen. */
  readonly formatReason?: string
}

export interface VmProposal {
  readonly machine: VirtualMachine
  /** Why it is so, each a sentence. */
  readonly reasons: readonly string[]
  /** What keeps it from starting, each a sentence. */
  readonly obstacles: readonly string[]
}

/** The names of all drivers that are asked for. */
export const ASKED_DRIVERS: readonly string[] = CONTROLLERS.flatMap((kind) => [...CONTROLLER_DRIVERS[kind]])

/** Proposes a virtual machine for the drives of a computer, and says why it is so. */
export function proposeMachine(question: VmQuestion): VmProposal {
  const { name, drives, memoryBytes, processors, formatReason } = question
  const reasons: string[] = []
  const obstacles: string[] = []
  const [{ survey }] = drives
  const { mode, because } = firmwareTold(survey)
  reasons.push(`It starts by ${mode.toUpperCase()}, since ${because}.`)
  if (mode === 'uefi' && !survey.partitions.some((p) => p.role === 'boot'))
    obstacles.push('The boot partition is not on the first disk, so the virtual machine will not start.')
  const controller = controllerFor(question, reasons, obstacles)
  if (formatReason) reasons.push(formatReason)
  const memory = memoryBytes ?? 4 * GIB
  reasons.push(
    memoryBytes === undefined
      ? 'Of the physical machine nothing is known; memory and processors are those of a small one.'
      : 'Memory and processors are those of the physical machine, at first.',
  )
  const machine: VirtualMachine = {
    name,
    firmware: mode,
    // A system that was started without it may hold loaders that nobody signed.
    secureBoot: false,
    memory: { leastBytes: memory, mostBytes: memory },
    processors: processors ?? 2,
    disks: drives.map(({ survey: { sizeBytes }, file }, place) => ({ file, sizeBytes, controller, place })),
    networkCards: [{ name: 'Network 1', connected: false, vlan: 0 }],
  }
  reasons.push('Its network card is not connected: the first start is without network.')
  return { machine, reasons, obstacles }
}

/** The quickest controller for which the system has a driver that starts early. */
function controllerFor({ drives, drivers }: VmQuestion, reasons: string[], obstacles: string[]): ControllerKind {
  const family = drives[0].survey.partitions.find((p) => p.system)?.system?.family
  if (family !== 'windows' || drivers === undefined) {
    reasons.push('Its disks are at a SATA controller, which nearly every system knows.')
    return 'sata'
  }
  const of = (kind: ControllerKind) =>
    CONTROLLER_DRIVERS[kind]
      .map((wanted) => drivers.find((driver) => driver.name === wanted))
      .filter((d) => d !== undefined)
  const early = CONTROLLERS.find((kind) => of(kind).some(isEarly))
  if (early) {
    const driver = of(early).find(isEarly)!
    reasons.push(`Its disks are at ${article(early)} controller, since the system starts ${driver.name} early.`)
    return early
  }
  const there = CONTROLLERS.find((kind) => of(kind).some(isThere))
  const kind = there ?? 'sata'
  const [driver] = CONTROLLER_DRIVERS[kind]
  obstacles.push(
    there
      ? `The system has ${driver} for ${article(kind)} controller, and does not start it early: the repair start-driver does that.`
      : `The system has no driver for a controller that is known here: ${driver} has to be brought in.`,
  )
  return kind
}

const article = (kind: ControllerKind) => `${kind === 'ide' || kind === 'nvme' ? 'an' : 'a'} ${CONTROLLER_NAMES[kind]}`
