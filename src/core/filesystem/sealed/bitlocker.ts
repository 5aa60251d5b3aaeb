import { type BlockDevice, readBytes } from '../../block/device'
import { guidToString } from '../../bytes/guid'
import { defineStruct, hasText, utf16ToString } from '../../bytes/struct'
import { CoreError } from '../../errors'
import type { FileSystemDriver } from '../port'
import { sealedVolume } from './sealed'

// The volume header and metadata block of an encrypted volume, from their long-standing public descriptions.

export const BITLOCKER_BOOT = defineStruct('BitLocker volume header', 512, {
  jump: [0, ['bytes', 3]],
  oemId: [3, ['ascii', 8]],
  bytesPerSector: [11, 'u16'],
  sectorsPerCluster: [13, 'u8'],
  identifier: [160, 'guid'],
  metadata1: [176, 'u64'],
  metadata2: [184, 'u64'],
  metadata3: [192, 'u64'],
  signature: [510, 'u16'],
})

export const METADATA_BLOCK = defineStruct('BitLocker metadata block', 112, {
  signature: [0, ['ascii', 8]],
  size: [8, 'u16'],
  version: [10, 'u16'],
  encryptedBytes: [16, 'u64'],
  metadata1: [32, 'u64'],
  metadata2: [40, 'u64'],
  metadata3: [48, 'u64'],
  metadataSize: [64, 'u32'],
  metadataVersion: [68, 'u32'],
  headerSize: [72, 'u32'],
  metadataSizeCopy: [76, 'u32'],
  volumeGuid: [80, 'guid'],
  method: [100, 'u32'],
  created: [104, 'bits64'],
})

export const METADATA_ENTRY = defineStruct('BitLocker metadata entry', 8, {
  size: [0, 'u16'],
  type: [2, 'u16'],
  valueType: [4, 'u16'],
  version: [6, 'u16'],
})

export const BITLOCKER_SIGNATURE = '-FVE-FS-'
export const BITLOCKER_IDENTIFIER = '4967d63b-2e29-4ad8-8399-f6a339e3d001'
export const ENTRY_DESCRIPTION = 7
export const VALUE_TEXT = 2
const TO_GO_IDENTIFIER_OFFSET = 424

/** A volume encrypted by BitLocker. Its metadata tells its identity; its files cannot be read without the key. */
export const bitlocker: FileSystemDriver = {
  kind: 'bitlocker',
  name: 'BitLocker',
  async recognise(device) {
    if (device.size < 1024 * 1024) return false
    const bytes = await readBytes(device, 0, 512)
    if (hasText(bytes, 3, BITLOCKER_SIGNATURE)) return true
    // A removable drive keeps the looks of a FAT, with the identifier in another place.
    return guidToString(bytes.subarray(TO_GO_IDENTIFIER_OFFSET)) === BITLOCKER_IDENTIFIER
  },
  async open(device) {
    const { label, volumeGuid } = await readMetadata(device)
    return sealedVolume({
      kind: 'bitlocker',
      name: 'BitLocker',
      label,
      serial: volumeGuid,
      totalBytes: device.size,
      encrypted: true,
      why: 'This volume is encrypted with BitLocker, so its files cannot be seen from here.',
    })
  },
}

async function readMetadata(device: BlockDevice): Promise<{ label: string; volumeGuid: string }> {
  const nothing = { label: '', volumeGuid: '' }
  try {
    const boot = BITLOCKER_BOOT.read(await readBytes(device, 0, 512))
    for (const offset of [boot.metadata1, boot.metadata2, boot.metadata3]) {
      if (offset === 0 || offset % 512 !== 0 || offset + 4096 > device.size) continue
      const bytes = await readBytes(device, offset, 4096)
      const block = METADATA_BLOCK.read(bytes)
      if (block.signature !== BITLOCKER_SIGNATURE) continue
      return { label: description(bytes, block.metadataSize), volumeGuid: block.volumeGuid }
    }
  } catch (error) {
    if (!(error instanceof CoreError)) throw error
  }
  return nothing
}

function description(bytes: Uint8Array, metadataSize: number): string {
  const end = Math.min(bytes.length, 64 + metadataSize)
  for (let at = METADATA_BLOCK.size; at + METADATA_ENTRY.size <= end;) {
    const { size, type, valueType } = METADATA_ENTRY.read(bytes, at)
    if (size < METADATA_ENTRY.size || at + size > end) break
    if (type === ENTRY_DESCRIPTION && valueType === VALUE_TEXT) {
      return utf16ToString(bytes, at + METADATA_ENTRY.size, Math.floor((size - METADATA_ENTRY.size) / 2), true)
    }
    at += size
  }
  return ''
}
