import { storeDeviceOf } from '../../boot/start-windows'
import { makeStore, readStore } from '../../boot/store'
import { guidToString } from '../../bytes/guid'
import { CoreError } from '../../errors'
import { bootPlace, hiveIn, loaderOf, patchesOfPut, storePathOf, systemPlace } from '../places'
import type { RepairKind } from '../port'

/** Boot settings that are gone, cannot be read or start nothing are made again for the one system that there is. */
export const newStore: RepairKind = {
  name: 'new-store',
  title: 'Make the boot settings anew',
  async plan(subject) {
    const { candidate, mode, chance, time } = subject
    const { partition, volume } = await bootPlace(subject)
    const path = storePathOf(mode)
    const there = (await volume.stat(path))?.kind === 'file'
    if (there && (await startsSomething(() => volume.readFile(path)))) return { changes: [], patches: [] }
    const system = await systemPlace(subject)
    if (!chance || chance.length < 16) throw new CoreError('No new identity is at hand.')
    const loader = await loaderOf(system, mode)
    const entry = {
      id: guidToString(chance.slice(0, 16)),
      description: loader.name,
      path: loader.loaderPath.replaceAll('/', '\\'),
      device: storeDeviceOf(candidate, system.partition),
    }
    const content = makeStore({ managerDevice: storeDeviceOf(candidate, partition), entries: [entry] }, time)
    return {
      changes: [
        `On partition ${partition.number}, ${path} is made anew, with one entry: “${entry.description}” on partition ${system.partition.number} of this disk.`,
        ...(there ? ['Whatever else stood in it, other entries and options, is gone.'] : []),
      ],
      patches: await patchesOfPut(subject, { partition, volume }, path, content),
      files: [{ path, partition: partition.number }],
    }
  },
}

async function startsSomething(read: () => Promise<Uint8Array>): Promise<boolean> {
  try {
    return (await readStore(await hiveIn(await read()))).entries.length > 0
  } catch (error) {
    if (error instanceof CoreError) return false
    throw error
  }
}
