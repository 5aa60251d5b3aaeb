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

export interface ImageBytes {
  readonly kind: 'image'
  /** The name of its file in the store. */
  readonly name: string
  readonly format: TargetKind
  readonly sectorSize: 512 | 4096
  readonly folder: FolderBytes
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
  if (medium.kind === 'drive') return openDrive(medium, { writable: false })
  const { name, sectorSize, folder } = medium
  if (folder.kind === 'host') return openHostImage(path.join(folder.path, name), { sectorSize, within: folder.path })
  const opened = await openDrive(folder.drive, { writable: false })
  try {
    const file = await volumeFolder(opened.device, folder).file(name)
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
  return { folder: volumeFolder(through(opened.device), folder), close: () => opened.close() }
}

function volumeFolder(drive: BlockDevice, { volume, notes }: Extract<FolderBytes, { kind: 'volume' }>): VolumeFolder {
  return new VolumeFolder(new SliceDevice(drive, volume.offset, volume.length), notes)
}

async function noParent(): Promise<never> {
  throw new NotSupported('An image on a drive that builds on another one is not opened here.')
}
