import { readBytes } from '../../block/device'
import { defineStruct } from '../../bytes/struct'
import type { FileSystemDriver } from '../port'
import { sealedVolume } from './sealed'
import { trimZeros } from '../text'

/** Both versions begin alike (LUKS On-Disk Format Specification 1.2.3 and 2). */
export const LUKS_HEADER = defineStruct(
  'LUKS header',
  208,
  {
    magic: [0, ['bytes', 6]],
    version: [6, 'u16'],
    label: [24, ['ascii', 48]],
    uuid: [168, ['ascii', 40]],
  },
  'big',
)

const MAGIC = [0x4c, 0x55, 0x4b, 0x53, 0xba, 0xbe]

/** A volume encrypted by LUKS. */
export const luks: FileSystemDriver = {
  kind: 'luks',
  name: 'LUKS',
  async recognise(device) {
    if (device.size < 4096) return false
    const { magic, version } = LUKS_HEADER.read(await readBytes(device, 0, 512))
    return MAGIC.every((byte, i) => magic[i] === byte) && (version === 1 || version === 2)
  },
  async open(device) {
    const header = LUKS_HEADER.read(await readBytes(device, 0, 512))
    return sealedVolume({
      kind: 'luks',
      name: `LUKS ${header.version}`,
      // Only version 2 has a label; version 1 keeps the cipher's name there.
      label: header.version === 2 ? trimZeros(header.label) : '',
      serial: trimZeros(header.uuid),
      totalBytes: device.size,
      encrypted: true,
      why: 'This volume is encrypted with LUKS, so its files cannot be seen from here.',
    })
  },
}
