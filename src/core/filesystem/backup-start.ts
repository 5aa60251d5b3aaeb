import { type BlockDevice, readBytes, UnreadableSectors } from '../block/device'
import { PatchedDevice } from '../block/patched'
import { alignDown, alignUp } from '../bytes/size'
import { CoreError } from '../errors'
import type { FileSystemDriver } from './port'

/** Where a kind of volume keeps its start a second time. All in bytes from the volume's start. */
interface BackupStart {
  readonly from: number
  readonly to: number
  readonly length: number
}

/** The places at which kinds of volumes keep a copy of what they begin with, by their specifications. */
function placesOn({ size, logicalSectorSize: sector }: BlockDevice): BackupStart[] {
  const superblocks = [1024, 2048, 4096].map((block) => ({
    // The second group begins behind as many blocks as one block has bits; with blocks of 1 KiB, one later.
    from: (block * 8 + (block === 1024 ? 1 : 0)) * block,
    to: 1024,
    length: 1024,
  }))
  return [
    { from: size - sector, to: 0, length: sector },
    { from: 6 * sector, to: 0, length: sector },
    { from: 12 * sector, to: 0, length: 12 * sector },
    ...superblocks,
    { from: size - 1024, to: 1024, length: 512 },
  ].filter(({ from, length }) => from > 0 && from + length <= size)
}

const START_BYTES = 4096

/**
 * A volume whose first sectors the medium does not give, with the copy of them that the volume itself keeps in their
 * place. Undefined when its start reads, or no copy of it is found that `recognised` knows and that opens.
 */
export async function withBackupStart(
  volume: BlockDevice,
  recognise: (device: BlockDevice) => Promise<FileSystemDriver | undefined>,
): Promise<BlockDevice | undefined> {
  if (await reads(volume, Math.min(START_BYTES, volume.size))) return undefined
  const sector = volume.logicalSectorSize
  for (const { from, to, length } of placesOn(volume)) {
    try {
      const bytes = await readBytes(volume, from, length)
      const start = alignDown(to, sector)
      // Of a sector that holds more than the copy, the rest is not known.
      const patch = new Uint8Array(alignUp(to + length, sector) - start)
      patch.set(bytes, to - start)
      const patched = new PatchedDevice(volume, [{ offset: start, bytes: patch }])
      const driver = await recognise(patched)
      if (!driver) continue
      await driver.open(patched)
      return patched
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
    }
  }
  return undefined
}

async function reads(device: BlockDevice, length: number): Promise<boolean> {
  try {
    await readBytes(device, 0, length)
    return true
  } catch (error) {
    if (error instanceof UnreadableSectors) return false
    throw error
  }
}
