import type { BenchState } from '@/core/things/bench'
import { type Drive, driveName } from '@/core/things/drive'
import { daysUntil, dayWords } from '../ground/words'
import { benchNow } from '../world/clock'
import { driveWritten, moveClaims } from './claims'

/** True while an old drive is kept as the way back: its day has not come, or is not set yet. */
export function isKept({ shelf }: Drive, now: number): boolean {
  return shelf !== undefined && (shelf.until === '' || daysUntil(now, shelf.until) > 0)
}

/** Drives of a bench that a move must not write to, since others have them, each with the sentence that says so. */
export async function reservedDrives(
  bench: BenchState,
  benchId: string,
  besides: string | undefined,
): Promise<Map<string, string>> {
  const found = new Map<string, string>()
  const say = (id: string | null, words: (name: string) => string) => {
    const drive = bench.drives.find((d) => d.id === id)
    if (drive && !found.has(drive.id)) found.set(drive.id, words(driveName(drive)))
  }
  const now = await benchNow()
  for (const drive of bench.drives.filter((d) => isKept(d, now))) {
    const { label, until } = drive.shelf!
    say(
      drive.id,
      (name) =>
        `The ${name} is the way back of an earlier move, ${label}, and is kept${until && ` until ${dayWords(until)}`}. It cannot be a target before.`,
    )
  }
  for (const { id, name: moveName, customer, handedOver, pairs, transfers } of await moveClaims(benchId)) {
    if (id === besides) continue
    const other = `${moveName}, ${customer}`
    for (const { sourceId, targetId } of pairs) {
      if (handedOver) {
        say(
          targetId,
          (name) => `The ${name} was handed over with an earlier move, ${other}, and is the customer’s now.`,
        )
        continue
      }
      say(targetId, (name) => `The ${name} is the target of another move: ${other}.`)
      say(sourceId, (name) => `The ${name} holds a system that another move is about: ${other}. It cannot be a target.`)
    }
    if (handedOver) continue
    for (const driveId of transfers.flatMap(driveWritten))
      say(driveId, (name) => `The ${name} is written on the way of another move: ${other}.`)
  }
  return found
}
