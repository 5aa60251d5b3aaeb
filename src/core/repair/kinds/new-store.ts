import { storeDeviceOf } from '../../boot/start-windows'
import { makeStore, readStore } from '../../boot/store'
import { guidToString } from '../../bytes/guid'
import { CoreError } from '../../errors'
import type { FileSystem } from '../../filesystem'
import { FALLBACK_PATH } from '../../survey/known-systems'
import {
  bootPlace,
  hiveIn,
  loaderOf,
  ownLoaderOf,
  patchesOfPut,
  type Place,
  storePathOf,
  systemPlace,
  type WholeFile,
} from '../places'
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
    const loaders = mode === 'uefi' ? await missingLoaders(volume, system, loader.bootLoaderPath) : []
    const entry = {
      id: guidToString(chance.slice(0, 16)),
      description: loader.name,
      path: loader.loaderPath.replaceAll('/', '\\'),
      device: storeDeviceOf(candidate, system.partition),
    }
    const store = makeStore({ managerDevice: storeDeviceOf(candidate, partition), entries: [entry] }, time)
    return {
      changes: [
        ...(loaders.length > 0
          ? [
              `On partition ${partition.number}, ${loaders.map((l) => l.path).join(' and ')} is put: the system’s own loader.`,
            ]
          : []),
        `On partition ${partition.number}, ${path} is made anew, with one entry: “${entry.description}” on partition ${system.partition.number} of this disk.`,
        ...(there ? ['Whatever else stood in it, other entries and options, is gone.'] : []),
      ],
      patches: await patchesOfPut(subject, { partition, volume }, [...loaders, { path, content: store }]),
      files: [{ path, partition: partition.number }],
    }
  },
}

/** What an EFI system partition lacks that the system is started by, out of its own folder. Other systems' loaders stay. */
async function missingLoaders(esp: FileSystem, system: Place, loaderPath: string): Promise<WholeFile[]> {
  const isMissing = async (path: string) => (await esp.stat(path))?.kind !== 'file'
  if (!(await isMissing(loaderPath))) return []
  const content = await ownLoaderOf(system)
  return [loaderPath, ...((await isMissing(FALLBACK_PATH)) ? [FALLBACK_PATH] : [])].map((path) => ({ path, content }))
}

async function startsSomething(read: () => Promise<Uint8Array>): Promise<boolean> {
  try {
    return (await readStore(await hiveIn(await read()))).entries.length > 0
  } catch (error) {
    if (error instanceof CoreError) return false
    throw error
  }
}
