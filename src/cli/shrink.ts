import path from 'node:path'
import { formatSize } from '@/core/bytes/size'
import { CoreError } from '@/core/errors'
import { applyShrink, planShrink, settleShrink, type ShrinkPlan, undoShrink } from '@/core/repair/shrink-in-place'
import { ShrinkJournalFile } from '@/host/shrink-journal'
import { type Io, json, type Options, percentOn } from './commands'
import { type InPlace, type InPlaceOptions, inPlace } from './in-place'
import { withImage, WrongUse } from './open'

// A volume that is made smaller where it lies, by itself or to make room for another.

export interface ShrinkOptions extends Options, InPlaceOptions {
  readonly dryRun?: boolean
  readonly undo?: boolean
}

/** Named after the drive it is of, so that whoever comes next finds what was cut off. */
const journalOf = ({ beside }: InPlace) => `${beside}.shrink`

/** What making a partition smaller comes to, for programs. */
export const shrinkTold = ({ partition, beforeBytes, afterBytes, moves }: ShrinkPlan) => ({
  partition,
  beforeBytes,
  afterBytes,
  movedBytes: moves.reduce((sum, { length }) => sum + length, 0),
})

/** Makes the volume on a partition of a raw image or drive smaller in its place, or takes that back. */
export async function shrink(
  file: string,
  partition: number,
  size: number | undefined,
  options: ShrinkOptions,
  io: Io,
): Promise<number> {
  if (options.undo ? size !== undefined : size === undefined)
    throw new WrongUse(
      options.undo
        ? '--undo takes the last one back, and has no size.'
        : 'How large it becomes is said by a size, such as 200GiB.',
    )
  const place = await inPlace(file, options, io)
  if (options.undo) return takeBack(place, partition, options, io)
  if (options.dryRun) await refuseCutOff(place)
  else await settleRoom(place, io)
  const plan = await withImage(file, { sectorSize: options.sectorSize }, ({ device }) =>
    planShrink(device, partition, size!),
  )
  if (!options.dryRun) await makeRoom(place, plan, io)
  const report = { file, ...shrinkTold(plan), state: options.dryRun ? 'planned' : 'done' }
  const words = `Partition ${partition}: ${formatSize(report.beforeBytes)} to ${formatSize(report.afterBytes)}, ${formatSize(report.movedBytes)} moved in it.`
  await io.print(
    options.json
      ? json(report)
      : `${words} ${options.dryRun ? 'Nothing was written.' : 'Read back, and the volume is sound. --undo takes it back.'}\n`,
  )
  return 0
}

async function takeBack(place: InPlace, partition: number, options: ShrinkOptions, io: Io): Promise<number> {
  const { file } = place
  const opened = await ShrinkJournalFile.open(journalOf(place))
  if (!opened || opened.record.partition !== partition)
    throw new WrongUse(`No partition ${partition} of ${path.basename(file)} was made smaller that could be taken back.`)
  const { record, journal } = opened
  const { device, close } = await place.open()
  try {
    if (record.state === 'writing') await settleShrink(device, record, journal)
    else if (record.state === 'done') await undoShrink(device, record, journal)
    await journal.forget()
  } finally {
    await close()
  }
  const { beforeBytes, afterBytes } = record
  const report = { file, partition, beforeBytes: afterBytes, afterBytes: beforeBytes, movedBytes: 0, state: 'undone' }
  await io.print(options.json ? json(report) : `Partition ${partition} is what it was, ${formatSize(beforeBytes)}.\n`)
  return 0
}

/** Makes room by a plan, with what is needed to take it back beside the drive. */
export async function makeRoom(place: InPlace, plan: ShrinkPlan, io: Io): Promise<void> {
  const percent = percentOn(io)
  const { device, close } = await place.open()
  const journal = await ShrinkJournalFile.begin(journalOf(place)).catch(async (error: unknown) => {
    await close()
    throw error
  })
  try {
    await applyShrink(device, plan, journal, {
      checkpoint: () => io.signal.throwIfAborted(),
      onProgress: (doneBytes, totalBytes) => percent({ doneBytes, totalBytes }),
    })
  } finally {
    await close()
    await journal.close()
  }
}

/** Takes a making of room back that was cut off, and says so. Nothing else is written. */
export async function settleRoom(place: InPlace, io: Io): Promise<void> {
  const opened = await ShrinkJournalFile.open(journalOf(place))
  if (!opened) return
  if (opened.record.state !== 'writing') return opened.journal.close()
  const { device, close } = await place.open()
  try {
    if (await settleShrink(device, opened.record, opened.journal))
      io.warn(
        `Partition ${opened.record.partition} was being made smaller when it was cut off; that was taken back first.`,
      )
  } finally {
    await close()
    await opened.journal.close()
  }
}

/** Refuses to plan over a making of room that was cut off. */
export async function refuseCutOff(place: InPlace): Promise<void> {
  const opened = await ShrinkJournalFile.open(journalOf(place))
  await opened?.journal.close()
  if (opened?.record.state === 'writing')
    throw new CoreError(
      `Partition ${opened.record.partition} was being made smaller when it was cut off. Run it without --dry-run, which takes that back first.`,
    )
}

/** Lets go of what would take room back that was made: what it was made for is done. */
export async function keepRoom(place: InPlace): Promise<void> {
  await (await ShrinkJournalFile.open(journalOf(place)))?.journal.forget()
}
