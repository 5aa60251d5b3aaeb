import path from 'node:path'
import { type FolderBytes, type MediumBytes, openMedium } from '@/outside/open-medium'
import type { BlockDevice } from '@/core/block/device'
import { readOnly } from '@/core/block/readonly'
import type { PlacedMedium } from '@/core/route/types'
import { type TargetKind, TARGETS } from '@/core/image'
import { type BenchState, berthOf, placeName } from '@/core/things/bench'
import { type Drive, driveName } from '@/core/things/drive'
import { driveBytes } from '../ground/drive-files'
import { imagesFolder, journalsFolder } from '../ground/paths'
import { Refusal } from '../ground/refusals'
import { leasableDrive, leasableImage, type Leasable } from '../leases'
import type { RouteResult } from '../database/schemas'
import { withDrive } from '../world'
import { plateOf, type PlateView } from '.'

/** What a leg reads or writes: a drive, or the disk in an image. */
export type Medium = { readonly kind: 'drive'; readonly drive: Drive } | ImageMedium

export interface ImageMedium {
  readonly kind: 'image'
  /** The name of its file. */
  readonly name: string
  readonly format: TargetKind
  /** Of its disk. */
  readonly sizeBytes: number
  readonly sectorSize: 512 | 4096
  /** Becomes the disk of a virtual machine. */
  readonly ofMachine: boolean
  readonly store: Store
}

/** A place that images are kept in: the folder of a host, or a volume of a drive. */
export type Store =
  | { readonly kind: 'host'; readonly hostId: string; readonly name: string }
  | {
      readonly kind: 'volume'
      readonly drive: Drive
      readonly volume: { readonly partition: number; readonly offset: number; readonly length: number }
    }

/** The store of an image that a plan names. Throws Refusal where it is gone. */
export function storeOf(
  medium: Exclude<PlacedMedium, { kind: 'drive' }>,
  volume: RouteResult['images'][number]['volume'],
  bench: BenchState,
): Store {
  const id = medium.kind === 'image' ? medium.store : medium.hostId
  const drive = bench.drives.find((d) => d.id === id)
  if (drive && volume) return { kind: 'volume', drive, volume }
  const host = bench.accessories.find((a) => a.id === id)
  if (!host) throw new Refusal('leg-store-gone')
  return { kind: 'host', hostId: host.id, name: host.name }
}

/** The disk of an image of so much, for a source or a layout of that size. */
export function imageMedium(
  { name, format }: Pick<RouteResult['images'][number], 'name' | 'format'>,
  disk: { readonly sizeBytes: number; readonly sectorSize: 512 | 4096; readonly ofMachine: boolean },
  store: Store,
): ImageMedium {
  return { kind: 'image', name, format, ...disk, store }
}

/** The drive of a medium that is one. */
export const driveOf = (medium: Medium): Drive | undefined => (medium.kind === 'drive' ? medium.drive : undefined)

/** The drive that has to be within reach for a medium: itself, or the one that its image lies on. */
export function driveUnder(medium: Medium): Drive | undefined {
  if (medium.kind === 'drive') return medium.drive
  return medium.store.kind === 'volume' ? medium.store.drive : undefined
}

/** `Corvina S5 960 GB`, `ticket desk.vhdx`. */
export const mediumName = (medium: Medium) => (medium.kind === 'drive' ? driveName(medium.drive) : medium.name)

const storeName = (store: Store) => (store.kind === 'host' ? store.name : driveName(store.drive))

/** What it is called within a sentence: `image on the Lampara T4 4 TB`. */
export function mediumWords(medium: Medium): string {
  if (medium.kind === 'drive') return driveName(medium.drive)
  return `${medium.ofMachine ? 'virtual disk' : 'image'} on the ${storeName(medium.store)}`
}

/** What an image shows in place of a drive's plate. */
function imagePlate(medium: ImageMedium, bench: BenchState): PlateView {
  const under = driveUnder(medium)
  return {
    id: medium.name,
    name: medium.name,
    model: medium.name,
    serial: '',
    sizeBytes: medium.sizeBytes,
    fits: TARGETS[medium.format].name,
    place: under ? `on the ${driveName(under)}, ${placeName(under.place, bench)}` : storeName(medium.store),
    inComputer: false,
    lentBy: null,
    connected: under ? berthOf(under, bench).link !== undefined : true,
  }
}

export const mediumPlate = (medium: Medium, bench: BenchState): PlateView =>
  medium.kind === 'drive' ? plateOf(medium.drive, bench) : imagePlate(medium, bench)

/** Opens a medium for reading, hands it to `work` and closes it. For what reads little. */
export async function withMedium<T>(medium: Medium, work: (device: BlockDevice) => Promise<T>): Promise<T> {
  if (medium.kind === 'drive') return withDrive(medium.drive, work)
  const opened = await openMedium(mediumBytes(medium))
  try {
    return await work(readOnly(opened.device))
  } finally {
    await opened.close()
  }
}

/** The file of this host that a medium's bytes lie in: its own, or that of the drive which an image is on. */
export function hostFileOf(medium: Medium): string {
  const drive = driveUnder(medium)
  return drive ? driveBytes(drive).file : path.join(imagesFolder(), (medium as ImageMedium).name)
}

/** How its bytes are reached. Throws Refusal for a drive that is only described. */
export function mediumBytes(medium: Medium): MediumBytes {
  if (medium.kind === 'drive') return { kind: 'drive', ...driveBytes(medium.drive) }
  const { name, format, sectorSize } = medium
  return { kind: 'image', name, format, sectorSize, folder: folderBytes(medium.store) }
}

/** How a store is reached; a host keeps its images in one folder for all of them. */
export function folderBytes(store: Store): FolderBytes {
  if (store.kind === 'host') return { kind: 'host', path: imagesFolder() }
  const { drive, volume } = store
  return { kind: 'volume', drive: driveBytes(drive), volume, notes: path.join(journalsFolder(), `${drive.id}.volume`) }
}

/** What a job takes that reads or writes it. */
export async function leasableMedium(medium: Medium): Promise<Leasable> {
  if (medium.kind === 'drive') return leasableDrive(medium.drive)
  const { name, store } = medium
  if (store.kind === 'volume') return leasableDrive(store.drive)
  return leasableImage(path.join(imagesFolder(), name), name)
}
