import type { BlockDevice } from '@/core/block/device'
import { SliceDevice } from '@/core/block/slice'
import { CoreError, NotSupported } from '@/core/errors'
import { openFileSystem, recognise } from '@/core/filesystem'
import { applyRepair } from '@/core/repair/apply'
import { patchesOf } from '@/core/repair/written'
import { placeOfPartition } from '@/core/survey/open-partition'
import { repairIn, repairJournal } from '@/host/repair-journal'
import { nextJournal, repairJournalsOf, STATES } from './boot'
import { type Io, json, type Options } from './commands'
import { type InPlaceOptions, inPlaceOf } from './in-place'
import { withImage } from './open'

export interface LabelOptions extends Options, InPlaceOptions {
  readonly dryRun?: boolean
}

/** Gives a volume of a raw image or drive another label. What stood there is kept in a journal, as of a repair. */
export async function label(
  file: string,
  partition: number,
  text: string,
  options: LabelOptions,
  io: Io,
): Promise<number> {
  const { place, journals, before, plan } = await withImage(file, options, async (image) => {
    const place = await inPlaceOf(file, image, options, io)
    const journals = await repairJournalsOf(place.beside)
    for (const journal of journals)
      if ((await repairIn(journal))?.state === 'writing')
        throw new CoreError(`A repair of ${file} was cut off. Run a repair, which takes it back first.`)
    const { start, size } = await placeOfPartition(image.device, partition)
    const volume = new SliceDevice(image.device, start, size)
    const driver = await recognise(volume)
    if (!driver?.relabel)
      throw new NotSupported(
        driver ? `The label of ${driver.name} is not written here.` : `Nothing known is on partition ${partition}.`,
      )
    const before = (await driver.open(volume)).label
    const work = (drive: BlockDevice) => driver.relabel!(new SliceDevice(drive, start, size), text)
    const patches = before === text ? [] : await patchesOf(image.device, work)
    const title = `Partition ${partition} is called ${text}`.slice(0, 200)
    return { place, journals, before, plan: { name: 'label', title, changes: [], patches } }
  })
  const state = plan.patches.length === 0 ? 'nothing' : options.dryRun ? 'planned' : 'done'
  if (state === 'done') {
    const { device, close } = await place.open()
    try {
      await applyRepair(device, plan, repairJournal(nextJournal(place.beside, journals)))
    } finally {
      await close()
    }
  }
  // A kind may write it in capitals, or not at all.
  const after = state === 'planned' ? text : await labelOf(file, partition, options)
  const report = { file, partition, before, after, state, sectors: plan.patches.length }
  await io.print(options.json ? json(report) : `Partition ${partition}: “${before}” to “${after}”. ${STATES[state]}\n`)
  return 0
}

/** The label that the volume on a partition has. */
function labelOf(file: string, partition: number, options: Options): Promise<string> {
  return withImage(file, options, async ({ device }) => {
    const { start, size } = await placeOfPartition(device, partition)
    return (await openFileSystem(new SliceDevice(device, start, size)))!.label
  })
}
