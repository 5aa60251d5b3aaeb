import { type BlockDevice, readBytes } from '../../block/device'
import { asciiToString, defineStruct } from '../../bytes/struct'
import { BadStructure } from '../../errors'
import { trimZeros } from '../text'
import type { FileSystemDriver } from '../port'
import { unlisted } from '../sealed/sealed'

/** The header of a swap area, as the Linux kernel's own headers describe it. */
export const SWAP_HEADER = defineStruct('swap header', 1068, {
  version: [1024, 'u32'],
  lastPage: [1028, 'u32'],
  badPages: [1032, 'u32'],
  uuid: [1036, 'uuid'],
  label: [1052, ['ascii', 16]],
})

const SIGNATURE = 'SWAPSPACE2'
/** What takes the signature's place while a system sleeps in the area. */
const ASLEEP = ['S1SUSPEND', 'S2SUSPEND', 'ULSUSPEND', 'LINHIB0001']
const PAGE_SIZES = [4096, 8192, 16384, 65536]

async function findSignature(device: BlockDevice): Promise<{ pageSize: number; asleep: boolean } | undefined> {
  for (const pageSize of PAGE_SIZES) {
    if (device.size < pageSize) return undefined
    const text = asciiToString(await readBytes(device, pageSize - 10, 10))
    if (text === SIGNATURE) return { pageSize, asleep: false }
    if (ASLEEP.includes(trimZeros(text))) return { pageSize, asleep: true }
  }
  return undefined
}

/** A swap area: nothing in it counts but its header, unless a system sleeps in it. */
export const swap: FileSystemDriver = {
  kind: 'swap',
  name: 'swap',
  async recognise(device) {
    return (await findSignature(device)) !== undefined
  },
  async open(device) {
    const { pageSize, asleep } = (await findSignature(device))!
    const { lastPage, uuid, label } = SWAP_HEADER.read(await readBytes(device, 0, 1536))
    const totalBytes = (lastPage + 1) * pageSize
    if (totalBytes > device.size) {
      throw new BadStructure('swap header', 1028, `it names ${lastPage + 1} pages, more than the partition holds`)
    }
    return {
      kind: 'swap',
      name: 'swap',
      label: trimZeros(label),
      serial: uuid,
      clusterSize: pageSize,
      totalBytes,
      state: asleep ? 'dirty' : 'clean',
      depth: 'map',
      findings: asleep
        ? [
            {
              severity: 'caution',
              code: 'swap.hibernated',
              sentence: 'A system sleeps in this swap area. Start it and shut it down before the copy.',
              evidence: `No ${SIGNATURE} at byte ${pageSize - 10}`,
            },
          ]
        : [],
      async *usedExtents() {
        yield { offset: 0, length: asleep ? totalBytes : pageSize }
      },
      anySectors: true,
      shrunk: (usedBytes) => ({
        bytes: asleep ? totalBytes : Math.max(usedBytes, 10 * pageSize),
        margin: asleep ? 'a system sleeps in it' : 'a swap area may be made anew in any size',
      }),
      ...unlisted('A swap area has no files.'),
    }
  },
}
