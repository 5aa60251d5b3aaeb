import path from 'node:path'
import { formatSize } from '@/core/bytes/size'
import { CoreError } from '@/core/errors'
import { applyShrink, planShrink, settleShrink, type ShrinkPlan, undoShrink } from '@/core/repair/shrink-in-place'
import { RawFile } from '@/host/raw-file'
import { ShrinkJournalFile } from '@/host/shrink-journal'
import { type Io, json, type Options, percentOn } from './commands'
import { expectRaw, withImage, WrongUse } from './open'

// A volume that is made smaller where it lies, by itself or to make room for another.

export interface ShrinkOptions extends Options {
  readonly dryRun?: boolean
  readonly undo?: boolean
}

/** Beside the drive it is of, so that whoever comes next finds what was cut off. */
const journalOf = (file: string) => `${file}.shrink`

/** What making a partition smaller comes to, for programs. */
export const shrinkTold = ({ partition, beforeBytes, afterBytes, moves }: ShrinkPlan) => ({
  partition,
  beforeBytes,
  afterBytes,
  movedBytes: moves.reduce((sum, { length }) => sum + length, 0),
})

/** Makes the volume on a partition of a raw image smaller in its place, or takes that back. */
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
  const sectorSize = await withImage(file, options, async (image) => expectRaw(image).logicalSectorSize)
  if (options.undo) return takeBack(file, partition, sectorSize, options, io)
  if (options.dryRun) await refuseCutOff(file)
  else await settleRoom(file, sectorSize, io)
  const plan = await withImage(file, { sectorSize }, ({ device }) => planShrink(device, partition, size!))
  if (!options.dryRun) await makeRoom(file, sectorSize, plan, io)
  const report = { file, ...shrinkTold(plan), state: options.dryRun ? 'planned' : 'done' }
  const words = `Partition ${partition}: ${formatSize(report.beforeBytes)} to ${formatSize(report.afterBytes)}, ${formatSize(report.movedBytes)} moved in it.`
  await io.print(
    options.json
      ? json(report)
      : `${words} ${options.dryRun ? 'Nothing was written.' : 'Read back, and the volume is sound. --undo takes it back.'}\n`,
  )
  return 0
}

async function takeBack(
  file: string,
  partition: number,
  sectorSize: 512 | 4096,
  options: ShrinkOptions,
  io: Io,
): Promise<number> {
  const opened = await ShrinkJournalFile.open(journalOf(file))
  if (!opened || opened.record.partition !== partition)
    throw new WrongUse(`No partition ${partition} of ${path.basename(file)} was made smaller that could be taken back.`)
  const { record, journal } = opened
  const device = await RawFile.open(file, sectorSize)
  try {
    if (record.state === 'writing') await settleShrink(device, record, journal)
    else if (record.state === 'done') await undoShrink(device, record, journal)
    await journal.forget()
  } finally {
    await device.close()
  }
  const { beforeBytes, afterBytes } = record
  const report = { file, partition, beforeBytes: afterBytes, afterBytes: beforeBytes, movedBytes: 0, state: 'undone' }
  await io.print(options.json ? json(report) : `Partition ${partition} is what it was, ${formatSize(beforeBytes)}.\n`)
  return 0
}

/** Makes room by a plan, with what is needed to take it back beside the drive. */
export async function makeRoom(file: string, sectorSize: 512 | 4096, plan: ShrinkPlan, io: Io): Promise<void> {
  const percent = percentOn(io)
  const journal = await ShrinkJournalFile.begin(journalOf(file))
  const device = await RawFile.open(file, sectorSize)
  try {
    await applyShrink(device, plan, journal, {
      checkpoint: () => io.signal.throwIfAborted(),
      onProgress: (doneBytes, totalBytes) => percent({ doneBytes, totalBytes }),
    })
  } finally {
    await device.close()
    await journal.close()
  }
}

/** Takes a making of room back that was cut off, and says so. Nothing else is written. */
export async function settleRoom(file: string, sectorSize: 512 | 4096, io: Io): Promise<void> {
  const opened = await ShrinkJournalFile.open(journalOf(file))
  if (!opened) return
  const device = await RawFile.open(file, sectorSize)
  try {
    if (await settleShrink(device, opened.record, opened.journal))
      io.warn(
        `Partition ${opened.record.partition} was being made smaller when it was cut off; that was taken back first.`,
      )
  } finally {
    await device.close()
    await opened.journal.close()
  }
}

/** Refuses to plan over a making of room that was cut off. */
export async function refuseCutOff(file: string): Promise<void> {
  const opened = await ShrinkJournalFile.open(journalOf(file))
  await opened?.journal.close()
  if (opened?.record.state === 'writing')
    throw new CoreError(
      `Partition ${opened.record.partition} was being made smaller when it was cut off. Run it without --dry-run, which takes that back first.`,
    )
}

/** Lets go of what would take room back that was made: what it was made for is done. */
export async function keepRoom(file: string): Promise<void> {
  await (await ShrinkJournalFile.open(journalOf(file)))?.journal.forget()
}
