import { type BlockDevice, readBytes } from '../../block/device'
import { asciiToString, defineStruct, hasText } from '../../bytes/struct'
import type { FileSystemDriver } from '../port'
import { sealedVolume } from './sealed'

/** The label of a physical volume, as the logical-volume manager's own sources describe it. */
export const LVM_LABEL = defineStruct('LVM label', 32, {
  id: [0, ['ascii', 8]],
  sector: [8, 'u64'],
  crc: [16, 'u32'],
  contentOffset: [20, 'u32'],
  type: [24, ['ascii', 8]],
})

/** The label stands in one of the first four sectors of 512 bytes. */
const PLACES = [512, 0, 1024, 1536]

async function findLabel(device: BlockDevice): Promise<{ at: number; bytes: Uint8Array } | undefined> {
  if (device.size < 4096) return undefined
  const bytes = await readBytes(device, 0, 2048)
  const at = PLACES.find((place) => hasText(bytes, place, 'LABELONE') && hasText(bytes, place + 24, 'LVM2 001'))
  return at === undefined ? undefined : { at, bytes }
}

/** A member of a group of logical volumes. */
export const lvm: FileSystemDriver = {
  kind: 'lvm',
  name: 'LVM member',
  async recognise(device) {
    return (await findLabel(device)) !== undefined
  },
  async open(device) {
    const { at, bytes } = (await findLabel(device))!
    const { contentOffset } = LVM_LABEL.read(bytes, at)
    const uuidAt = at + contentOffset
    return sealedVolume({
      kind: 'lvm',
      name: 'LVM member',
      label: '',
      serial: uuidAt + 32 <= bytes.length ? grouped(asciiToString(bytes.subarray(uuidAt, uuidAt + 32))) : '',
      totalBytes: device.size,
      why: 'This partition is a member of a group of logical volumes; the volumes in it are not taken apart here.',
    })
  },
}

/** The manager writes its identities as 6-4-4-4-4-4-6 characters. */
function grouped(text: string): string {
  const parts: string[] = []
  let at = 0
  for (const length of [6, 4, 4, 4, 4, 4, 6]) {
    parts.push(text.slice(at, at + length))
    at += length
  }
  return parts.join('-')
}
