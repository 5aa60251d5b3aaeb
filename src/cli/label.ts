import type { BlockDevice } from '@/core/block/device'
import { SliceDevice } from '@/core/block/slice'
import { CoreError, NotSupported } from '@/core/errors'
import { recognise } from '@/core/filesystem'
import { applyRepair } from '@/core/repair/apply'
import { patchesOf } from '@/core/repair/written'
import { placeOfPartition } from '@/core/survey/open-partition'
import { RawFile } from '@/host/raw-file'
import { repairIn, repairJournal } from '@/host/repair-journal'
import { nextJournal, repairJournalsOf, STATES } from './boot'
import { type Io, json, type Options } from './commands'
import { expectRaw, withImage } from './open'

export interface LabelOptions extends Options {
  readonly dryRun?: boolean
}

/** Gives a volume of a raw image another label. What stood there is kept in a journal beside the image, as of a repair. */
export async function label(
  file: string,
  partition: number,
  text: string,
  options: LabelOptions,
  io: Io,
): Promise<number> {
  const sectorSize = await withImage(file, options, async (image) => expectRaw(image).logicalSectorSize)
  const journals = await repairJournalsOf(file)
  for (const journal of journals)
    if ((await repairIn(journal))?.state === 'writing')
      throw new CoreError(`A repair of ${file} was cut off. Run a repair, which takes it back first.`)
  const device = await RawFile.open(file, sectorSize)
  try {
    const { start, size } = await placeOfPartition(device, partition)
    const volume = new SliceDevice(device, start, size)
    const driver = await recognise(volume)
    if (!driver?.relabel)
      throw new NotSupported(
        driver ? `The label of ${driver.name} is not written here.` : `Nothing known is on partition ${partition}.`,
      )
    const before = (await driver.open(volume)).label
    const work = (drive: BlockDevice) => driver.relabel!(new SliceDevice(drive, start, size), text)
    const patches = before === text ? [] : await patchesOf(device, work)
    const plan = {
      name: 'label',
      title: `Partition ${partition} is called ${text}`.slice(0, 200),
      changes: [],
      patches,
    }
    const state = patches.length === 0 ? 'nothing' : options.dryRun ? 'planned' : 'done'
    if (state === 'done') await applyRepair(device, plan, repairJournal(nextJournal(file, journals)))
    // A kind may write it in capitals, or not at all.
    const after = state === 'planned' ? text : (await driver.open(volume)).label
    const report = { file, partition, before, after, state, sectors: patches.length }
    await io.print(
      options.json ? json(report) : `Partition ${partition}: “${before}” to “${after}”. ${STATES[state]}\n`,
    )
    return 0
  } finally {
    await device.close()
  }
}
