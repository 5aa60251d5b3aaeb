import type { StoreDevice } from '../boot/store'
import type { Layout } from '../fit/types'
import type { DriveSurvey } from '../survey/types'

/** A volume by what a system called it on its old drive, and by what it is to be called on the new one. */
export interface MovedVolume {
  readonly from: StoreDevice
  readonly to: StoreDevice
}

/** Every volume that a layout takes along, under both of its names. */
export function movedVolumes(source: DriveSurvey, layout: Layout): MovedVolume[] {
  return layout.partitions.flatMap((p): MovedVolume[] => {
    const before = source.partitions.find((s) => s.number === p.sourceNumber)
    if (!before) return []
    const from: StoreDevice | undefined = source.table
      ? { scheme: 'gpt', diskGuid: source.table.diskGuid, partitionGuid: before.guid }
      : source.mbr && { scheme: 'mbr', signature: source.mbr.diskSignature, offset: before.startBytes }
    const to: StoreDevice =
      layout.scheme === 'gpt'
        ? { scheme: 'gpt', diskGuid: layout.diskGuid, partitionGuid: p.guid }
        : { scheme: 'mbr', signature: layout.diskSignature, offset: p.firstLba * layout.sectorSize }
    return from ? [{ from, to }] : []
  })
}

export function sameStoreDevice(a: StoreDevice, b: StoreDevice): boolean {
  if (a.scheme === 'gpt')
    return b.scheme === 'gpt' && same(a.partitionGuid, b.partitionGuid) && same(a.diskGuid, b.diskGuid)
  return b.scheme === 'mbr' && same(a.signature, b.signature) && a.offset === b.offset
}

const same = (a: string, b: string) => a.toLowerCase() === b.toLowerCase()

/**
 * Where each of the names that a system keeps leads to on the new drive; undefined for one that stays as it is. The
 * names are looked at together: an old place may be the new place of another volume, so a list whose names are all new
 * ones already is never followed a second time. `here` tells which lead to a partition of the new drive as they are.
 */
export function followMoves(
  named: readonly StoreDevice[],
  moved: readonly MovedVolume[],
  here: (device: StoreDevice) => boolean,
): (device: StoreDevice) => StoreDevice | undefined {
  const target = (device: StoreDevice) => moved.find((m) => sameStoreDevice(m.from, device))?.to
  const ours = named.filter((d) => target(d) || moved.some((m) => sameStoreDevice(m.to, d)))
  const allOld = ours.every((d) => target(d) !== undefined)
  const allNew = ours.every((d) => moved.some((m) => sameStoreDevice(m.to, d)))
  return (device) => {
    const to = target(device)
    if (!to || sameStoreDevice(to, device) || allNew) return undefined
    return allOld || !here(device) ? to : undefined
  }
}
