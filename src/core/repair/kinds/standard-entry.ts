import { ELEMENTS, elementPath, STORE_OBJECTS } from '../../boot/store'
import { partitionAt } from '../../boot/start-windows'
import { CoreError } from '../../errors'
import { changedHive, openStore, patchesOfFile } from '../places'
import type { RepairKind } from '../port'

/** The standard entry may name one that is gone. */
export const standardEntry: RepairKind = {
  name: 'standard-entry',
  title: 'Name an entry that is there as the standard one',
  async plan(subject) {
    const { place, path, bytes, store } = await openStore(subject)
    if (store.standard) return { changes: [], patches: [] }
    const device = (e: (typeof store.entries)[number]) => e.systemDevice ?? e.device
    const here = store.entries.filter((e) => device(e) && partitionAt([subject.candidate], device(e)!))
    const [entry] = here.length > 0 ? here : store.entries
    if (!entry) throw new CoreError('The boot settings have no entry that starts a system.')
    const key = elementPath(STORE_OBJECTS.manager, ELEMENTS.default)
    const after = await changedHive(bytes, [{ key, name: 'Element', value: `{${entry.id}}` }], subject.time)
    return {
      changes: [`In ${path}, “${entry.description}” becomes the entry that starts when nobody chooses.`],
      patches: await patchesOfFile(subject, place, path, bytes, after),
      files: [{ path, partition: place.partition.number }],
    }
  },
}
