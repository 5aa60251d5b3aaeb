import type { BlockDevice } from '../../block/device'
import { alignDown, MIB } from '../../bytes/size'
import { stringToUtf16 } from '../../bytes/struct'
import {
  BITLOCKER_BOOT,
  BITLOCKER_IDENTIFIER,
  BITLOCKER_SIGNATURE,
  ENTRY_DESCRIPTION,
  METADATA_BLOCK,
  METADATA_ENTRY,
  VALUE_TEXT,
} from './bitlocker'

const BLOCK_BYTES = 65536
const METHOD_XTS_128 = 0x8004

/** Writes the outer structures of an encrypted volume: header and three metadata blocks. There is no key to it. */
export async function formatBitLocker(
  device: BlockDevice,
  volume: { readonly description: string; readonly volumeGuid: string; readonly created: bigint },
): Promise<void> {
  const places = [33 * MIB, alignDown(device.size / 3, MIB), alignDown((device.size / 3) * 2, MIB)]
  const [metadata1, metadata2, metadata3] = places
  const boot = new Uint8Array(device.logicalSectorSize)
  BITLOCKER_BOOT.write(boot, {
    jump: Uint8Array.of(0xeb, 0x58, 0x90),
    oemId: BITLOCKER_SIGNATURE,
    bytesPerSector: device.logicalSectorSize,
    sectorsPerCluster: 4096 / device.logicalSectorSize,
    identifier: BITLOCKER_IDENTIFIER,
    metadata1,
    metadata2,
    metadata3,
    signature: 0xaa55,
  })
  await device.write(0, boot)
  const text = stringToUtf16(`${volume.description}\0`)
  const entryBytes = METADATA_ENTRY.size + text.length
  const metadataSize = 48 + entryBytes
  const block = new Uint8Array(BLOCK_BYTES)
  METADATA_BLOCK.write(block, {
    signature: BITLOCKER_SIGNATURE,
    size: Math.ceil((64 + metadataSize) / 16),
    version: 2,
    encryptedBytes: device.size,
    metadata1,
    metadata2,
    metadata3,
    metadataSize,
    metadataVersion: 1,
    headerSize: 48,
    metadataSizeCopy: metadataSize,
    volumeGuid: volume.volumeGuid,
    method: METHOD_XTS_128,
    created: volume.created,
  })
  const entry = { size: entryBytes, type: ENTRY_DESCRIPTION, valueType: VALUE_TEXT, version: 1 }
  METADATA_ENTRY.write(block, entry, METADATA_BLOCK.size)
  block.set(text, METADATA_BLOCK.size + METADATA_ENTRY.size)
  for (const place of places) await device.write(place, block)
}
