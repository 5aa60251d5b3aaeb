import { type BlockDevice, writeBytes } from '../../block/device'
import { alignUp, GIB, MIB } from '../../bytes/size'
import { stringToUtf16, viewOf } from '../../bytes/struct'
import { CoreError } from '../../errors'
import { labelProblem } from '../label-rule'
import {
  BITMAP_ENTRY,
  END_OF_CHAIN,
  ENTRY_BITMAP,
  ENTRY_LABEL,
  ENTRY_UP_CASE,
  EXFAT_BOOT,
  FIRST_CLUSTER,
} from './layout'
import { clear, writeBoot } from './resize'

export interface ExfatFormat {
  readonly label: string
  readonly serial: number
  /** Sector of the drive where the volume will start. */
  readonly startSector: number
}

/** Section 3.1.5: the table begins behind both boot regions; on 1 MiB, as the clusters do. */
const TABLE_AT = MIB
/** Section 3.3: a sector of them ends so. */
const EXTENDED_SIGNATURE = 0xaa550000
/** In the table's first entries: the media, and nothing. */
const MEDIA = 0xfffffff8

/** Makes an empty exFAT volume on a device. Throws CoreError for one that is too small, or for a label that none can have. */
export async function formatExfat(device: BlockDevice, { label, serial, startSector }: ExfatFormat): Promise<void> {
  const wrong = labelProblem('exfat', label)
  if (wrong) throw new CoreError(wrong)
  const sector = device.logicalSectorSize
  const clusterSize = device.size <= 256 * MIB ? 4096 : device.size <= 32 * GIB ? 32 * 1024 : 128 * 1024
  const sectors = Math.floor(device.size / sector)
  // As many clusters as the table could have at most; the few entries too many do no harm.
  const tableBytes = alignUp((Math.ceil(device.size / clusterSize) + FIRST_CLUSTER) * 4, MIB)
  const heapAt = TABLE_AT + tableBytes
  const clusterCount = Math.floor((sectors * sector - heapAt) / clusterSize)
  if (clusterCount < 16) throw new CoreError('The partition is too small for an exFAT volume.')
  const place = (cluster: number) => heapAt + (cluster - FIRST_CLUSTER) * clusterSize

  const bitmap = new Uint8Array(Math.ceil(clusterCount / 8))
  const upCase = upCaseTable()
  const bitmapClusters = Math.ceil(bitmap.length / clusterSize)
  const upCaseClusters = Math.ceil(upCase.length / clusterSize)
  const upCaseAt = FIRST_CLUSTER + bitmapClusters
  const rootAt = upCaseAt + upCaseClusters
  const used = bitmapClusters + upCaseClusters + 1
  for (let i = 0; i < used; i++) bitmap[i >> 3] |= 1 << (i & 7)

  const table = new Uint8Array((FIRST_CLUSTER + used) * 4)
  const entries = viewOf(table)
  entries.setUint32(0, MEDIA, true)
  entries.setUint32(4, END_OF_CHAIN, true)
  for (let cluster = FIRST_CLUSTER; cluster <= rootAt; cluster++) {
    const ends = [upCaseAt - 1, rootAt - 1, rootAt].includes(cluster)
    entries.setUint32(cluster * 4, ends ? END_OF_CHAIN : cluster + 1, true)
  }

  await clear(device, 0, heapAt)
  await clear(device, heapAt, place(rootAt + 1))
  await writeBytes(device, TABLE_AT, table)
  await writeBytes(device, place(FIRST_CLUSTER), bitmap)
  await writeBytes(device, place(upCaseAt), upCase)
  await writeBytes(device, place(rootAt), rootDirectory({ label, bitmapBytes: bitmap.length, upCaseAt, upCase }))
  await writeBoot(device, sector, (region) => {
    EXFAT_BOOT.write(region, {
      jump: Uint8Array.of(0xeb, 0x76, 0x90),
      name: 'EXFAT   ',
      partitionOffset: BigInt(startSector),
      volumeSectors: sectors,
      fatOffset: TABLE_AT / sector,
      fatSectors: tableBytes / sector,
      heapOffset: heapAt / sector,
      clusterCount,
      rootCluster: rootAt,
      serial,
      revision: 0x0100,
      sectorShift: Math.log2(sector),
      clusterShift: Math.log2(clusterSize / sector),
      fatCount: 1,
      signature: 0xaa55,
    })
    // Section 3.1.16: the drive's number for the BIOS.
    region[111] = 0x80
    const view = viewOf(region)
    for (let i = 1; i <= 8; i++) view.setUint32((i + 1) * sector - 4, EXTENDED_SIGNATURE, true)
  })
  await device.flush()
}

/** Section 7.2: letters of ASCII are told apart from no others; all else stands for itself, in runs. */
function upCaseTable(): Uint8Array {
  const RUN = 0xffff
  const [a, z] = [0x61, 0x7a]
  const letters = Array.from({ length: z - a + 1 }, (_, i) => a + i - 0x20)
  const words = [RUN, a, ...letters, RUN, 0x10000 - z - 1]
  const bytes = new Uint8Array(words.length * 2)
  words.forEach((word, i) => viewOf(bytes).setUint16(i * 2, word, true))
  return bytes
}

function rootDirectory(of: { label: string; bitmapBytes: number; upCaseAt: number; upCase: Uint8Array }): Uint8Array {
  const { label, bitmapBytes, upCaseAt, upCase } = of
  const bytes = new Uint8Array(3 * 32)
  const name = stringToUtf16(label)
  bytes[0] = label === '' ? ENTRY_LABEL & 0x7f : ENTRY_LABEL
  bytes[1] = name.length / 2
  bytes.set(name, 2)
  bytes[32] = ENTRY_BITMAP
  BITMAP_ENTRY.write(bytes.subarray(32), { flags: 0, firstCluster: FIRST_CLUSTER, length: bitmapBytes })
  bytes[64] = ENTRY_UP_CASE
  BITMAP_ENTRY.write(bytes.subarray(64), { firstCluster: upCaseAt, length: upCase.length })
  viewOf(bytes).setUint32(68, sumOf(upCase), true)
  return bytes
}

/** Section 7.2.2. */
function sumOf(bytes: Uint8Array): number {
  let sum = 0
  for (const byte of bytes) sum = ((((sum & 1) << 31) | (sum >>> 1)) + byte) >>> 0
  return sum
}
