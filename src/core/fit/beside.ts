import type { DriveSurvey } from '../survey/types'
import type { FitWish } from './types'

// A drive and its copy in one computer.

/** Kinds of volumes that no system finds by what they carry in themselves, but by the table that they stand in. */
const FOUND_BY_TABLE = /^(fat|exfat|ntfs|bitlocker)/

/** Why a target laid out so is not to be in one computer with its source, in a sentence; undefined where it may be. */
export function whyNotBeside({ partitions }: DriveSurvey, wish: FitWish): string | undefined {
  if (wish.identity?.of !== 'all')
    return 'The old drive stays in beside this one, so this one needs new identities for the drive and all on it.'
  const left = new Set(wish.leaveOut ?? [])
  const twin = partitions.find(({ number, volume }) => volume && !left.has(number) && !FOUND_BY_TABLE.test(volume.kind))
  if (!twin) return undefined
  return `${twin.title} is ${twin.volume!.name}, which systems find by an identity inside of it, and its copy carries the same. With both drives in, either may be used. The old drive has to come out, which Intake says.`
}
