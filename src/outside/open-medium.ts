import path from 'node:path'
import type { BlockDevice } from '@/core/block/device'
import { SliceDevice } from '@/core/block/slice'
import { NotSupported } from '@/core/errors'
import { openImage, type TargetKind } from '@/core/image'
import type { ImageFolder } from '@/core/image/folder'
import { HostFolder } from '@/host/host-folder'
import { openHostImage } from '@/host/images'
import { VolumeFolder } from '@/host/volume-folder'
import { type DriveBytes, openDrive, type OpenDrive } from './open-drive'

/** What opening a medium of the bench needs: a drive, or an image in a store. It is plain, so that it can go to a worker. */
export type MediumBytes = (DriveBytes & { readonly kind: 'drive' }) | ImageBytes

export interface ImageBytes extends StoredImage {
  readonly kind: 'image'
  readonly format: TargetKind
  readonly sectorSize: 512 | 4096
}

/** An image in a store. */
export interface StoredImage {
  /** The name of its file there. */
  readonly name: string
  readonly folder: FolderBytes
  /** What its format does not tell of its sectors. */
  readonly sectorSize?: 512 | 4096
}

/** A store: a folder of the host, or a volume of a drive. */
export type FolderBytes =
  | { readonly kind: 'host'; readonly path: string }
  | {
      readonly kind: 'volume'
      readonly drive: DriveBytes
      readonly volume: { readonly offset: number; readonly length: number }
      /** A file of this host in which is kept how far the files that are being made are written. */
      readonly notes: string
    }

/** Opens a medium for reading. Rejects with CoreError. */
export async function openMedium(medium: MediumBytes): Promise<Pick<OpenDrive, 'device' | 'close'>> {
  return medium.kind === 'drive' ? openDrive(medium, { writable: false }) : openStored(medium)
}

/** Opens the disk of an image for reading. Rejects with CoreError. */
export async function openStored({
  name,
  sectorSize,
  folder,
}: StoredImage): Promise<Pick<OpenDrive, 'device' | 'close'>> {
  if (folder.kind === 'host') return openHostImage(path.join(folder.path, name), { sectorSize, within: folder.path })
  const opened = await openDrive(folder.drive, { writable: false })
  try {
    const file = await (await VolumeFolder.toRead(volumeOn(opened.device, folder), folder.notes)).file(name)
    return { device: (await openImage(file, { sectorSize, openParent: noParent })).device, close: opened.close }
  } catch (error) {
    await opened.close()
    throw error
  }
}

/**
 * Opens a store to write images into. `through` stands between it and the drive that it is on, as something that can be
 * pulled does.
 */
export async function openFolder(
  folder: FolderBytes,
  through: (drive: BlockDevice) => BlockDevice = (drive) => drive,
): Promise<{ folder: ImageFolder; close(): Promise<void> }> {
  if (folder.kind === 'host') return { folder: new HostFolder(folder.path), close: async () => {} }
  const opened = await openDrive(folder.drive, { writable: true })
  const volume = volumeOn(through(opened.device), folder)
  return { folder: new VolumeFolder(volume, folder.notes), close: () => opened.close() }
}

/** Opens a store for reading, hands it to `work` and closes it. Rejects with CoreError. */
export async function withStore<T>(folder: FolderBytes, work: (folder: ImageFolder) => Promise<T>): Promise<T> {
  if (folder.kind === 'host') return work(new HostFolder(folder.path))
  const opened = await openDrive(folder.drive, { writable: false })
  try {
    return await work(await VolumeFolder.toRead(volumeOn(opened.device, folder), folder.notes))
  } finally {
    await opened.close()
  }
}

function volumeOn(drive: BlockDevice, { volume }: Extract<FolderBytes, { kind: 'volume' }>): BlockDevice {
  return new SliceDevice(drive, volume.offset, volume.length)
}

async function noParent(): Promise<never> {
  throw new NotSupported('An image on a drive that builds on another one is not opened here.')
}
