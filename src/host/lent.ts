import type { BlockDevice } from '@/core/block/device'
import { CoreError } from '@/core/errors'
import { FileDevice } from '@/core/image/raw'
import { keyFor, nbdAddress } from '@/nbd/address'
import { type ClientOptions, NbdFile } from '@/nbd/client'
import { LentDevice } from '@/nbd/device'
import { blake3 } from './strong-digest'

export interface OpenLent extends ClientOptions {
  readonly writable?: boolean
  readonly sectorSize: 512 | 4096
}

/** A disk that another program lends. */
export interface LentDisk {
  readonly device: BlockDevice
  readonly file: NbdFile
  close(): Promise<void>
}

/**
 * Opens what is lent at an address (`nbd://…`) as a disk, its key from the file that the address names where none is
 * given. Rejects with CoreError: no connection, no yes, lent for reading only, or in blocks longer than a sector.
 */
export async function openLent(uri: string, { writable = false, sectorSize, ...options }: OpenLent): Promise<LentDisk> {
  const address = nbdAddress(uri)
  const file = await NbdFile.open(address, { ...options, key: await keyFor(address, options.key) })
  try {
    if (writable && file.isReadOnly)
      throw new CoreError('That is lent for reading only, so nothing can be copied onto it.')
    if (writable && file.minimumBytes > 4096)
      throw new CoreError(
        `That is lent in blocks of ${file.minimumBytes} bytes, and what is copied is written in sectors of at most 4096.`,
      )
    const sector = file.minimumBytes > 512 ? 4096 : sectorSize
    const device = writable ? new LentDevice(file, sector, blake3) : new FileDevice(file, sector)
    return { device, file, close: () => file.close() }
  } catch (error) {
    await file.close()
    throw error
  }
}
