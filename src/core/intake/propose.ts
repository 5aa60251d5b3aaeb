import { firmwareTold } from '../boot/told'
import type { DriveSurvey } from '../survey/types'
import { upperFirst } from '../words'

/** Capacities that drives are sold with, in bytes. */
const SOLD = [120, 240, 256, 480, 500, 512, 960, 1000, 2000, 4000, 8000, 16_000, 20_000].map((gb) => gb * 1e9)

/** What a disk tells of the computer that it came out of, where nobody has described that yet. */
export interface Proposal {
  /** Of computer and move, from the name of the file. */
  readonly name: string
  readonly mode: 'uefi' | 'bios'
  /** What on the disk tells the kind of firmware. */
  readonly because: string
  /** The next larger capacity that is sold, in bytes. */
  readonly targetBytes: number
}

/** Proposes a computer and the capacity of a new drive for a disk. `called` is a file name or a model. */
export function proposeFor(survey: DriveSurvey, called: string): Proposal {
  const { mode, because } = firmwareTold(survey)
  const words = called
    .replace(/\.[a-z0-9]{1,6}$/i, '')
    .replace(/[_.]+/g, ' ')
    .replace(/\s+/g, ' ')
    .trim()
  const name = upperFirst(words || 'computer').slice(0, 80)
  const targetBytes = SOLD.find((size) => size > survey.sizeBytes) ?? survey.sizeBytes
  return { name, mode, because, targetBytes }
}
