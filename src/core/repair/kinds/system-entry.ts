import { partitionAt, storeDeviceOf } from '../../boot/start-windows'
import { type NewEntry, withEntries } from '../../boot/store'
import { guidToString } from '../../bytes/guid'
import { CoreError } from '../../errors'
import { loaderOf, openStore, patchesOfPut, systemPlaces } from '../places'
import type { RepairKind } from '../port'

/** A system that came onto the drive beside another is not in the boot settings yet; all that is there stays. */
export const systemEntry: RepairKind = {
  name: 'system-entry',
  title: 'Add an entry for a system that has none',
  async plan(subject) {
    const { candidate, chance, mode } = subject
    const { place, path, bytes, store } = await openStore(subject)
    const named = new Set(
      store.entries.flatMap(({ systemDevice, device }) => {
        const meant = systemDevice ?? device
        const there = meant && partitionAt([candidate], meant)
        return there ? [there.partition.number] : []
      }),
    )
    const without = (await systemPlaces(subject)).filter(
      ({ partition: { number } }) => !named.has(number) && (subject.system ?? number) === number,
    )
    if (without.length === 0) return { changes: [], patches: [] }
    if (!chance || chance.length < 16) throw new CoreError('No new identity is at hand.')
    const names = store.entries.map(({ description }) => description)
    const entries: NewEntry[] = []
    for (const [i, system] of without.entries()) {
      const { partition, volume } = system
      const { name, loaderPath } = await loaderOf(system, mode)
      // The menu has to tell the two apart.
      const alike = names.some((other) => other.startsWith(name))
      const description = alike ? `${name}, ${volume.label || `partition ${partition.number}`}` : name
      names.push(description)
      const id = chance.slice(0, 16)
      id[15] = (id[15] + i) & 0xff
      const device = storeDeviceOf(candidate, partition)
      entries.push({ id: guidToString(id), description, path: loaderPath.replaceAll('/', '\\'), device })
    }
    const after = await withEntries(bytes, entries, subject.time)
    return {
      changes: entries.map(
        ({ description }, i) =>
          `In ${path}, “${description}” is a further entry, which starts partition ${without[i].partition.number} of this disk.`,
      ),
      know: ['Which system starts when nobody chooses stays as it is.'],
      patches: await patchesOfPut(subject, place, [{ path, content: after }]),
      files: [{ path, partition: place.partition.number }],
    }
  },
}
