import type { BlockDevice } from '../block/device'
import { SliceDevice } from '../block/slice'
import { guidByChance } from '../bytes/guid'
import { alignDown, MIB } from '../bytes/size'
import { viewOf } from '../bytes/struct'
import { CoreError } from '../errors'
import { formatExfat } from '../filesystem/exfat/format'
import { expectLabel } from '../filesystem/label-rule'
import { formatNtfs } from '../filesystem/ntfs/format'
import { readScheme } from '../scheme'
import { usableRange, writeGpt } from '../scheme/gpt'
import { TYPE_GUIDS } from '../scheme/types'
import { surveyDrive } from '../survey/survey'

export const DATA_KINDS = ['ntfs', 'exfat'] as const
export type DataKind = (typeof DATA_KINDS)[number]

/** What an erased drive is to become. */
export interface DataVolumeWish {
  readonly kind: DataKind
  readonly label: string
  /** 48 bytes by chance, for the identities of the drive, the partition and the volume. */
  readonly chance: Uint8Array
  /** FILETIME of its first files. */
  readonly time: bigint
}

/** Why a drive cannot get a volume of a kind, in a sentence; undefined where it can. */
export function whyNoDataVolume({ logicalSectorSize }: Pick<BlockDevice, 'logicalSectorSize'>, kind: DataKind) {
  return kind === 'ntfs' && logicalSectorSize !== 512
    ? 'A new NTFS volume is only made on a drive with 512-byte sectors. exFAT can be made on this one.'
    : undefined
}

/**
 * Makes one volume of all the room of a drive without a table, in a GPT: the volume first and its entry last, so that what
 * is cut off leaves no volume that is half made. Reads it back. Rejects with CoreError where the drive has a table, is too
 * small, or cannot have the kind or the label.
 */
export async function makeDataVolume(device: BlockDevice, wish: DataVolumeWish): Promise<void> {
  const { kind, label, chance, time } = wish
  const why = whyNoDataVolume(device, kind)
  if (why) throw new CoreError(why)
  expectLabel(kind, label)
  if ((await readScheme(device)) !== undefined)
    throw new CoreError('The drive carries a partition table, so it is not made anew.')
  const sector = device.logicalSectorSize as 512 | 4096
  const usable = usableRange(device.size, sector)
  const firstLba = MIB / sector
  const lastLba = alignDown((usable.lastLba + 1) * sector, MIB) / sector - 1
  if (lastLba - firstLba < (16 * MIB) / sector) throw new CoreError('The drive is too small for a volume.')
  const place = new SliceDevice(device, firstLba * sector, (lastLba - firstLba + 1) * sector)
  const serials = viewOf(chance.slice(32, 48))
  if (kind === 'ntfs')
    await formatNtfs(place, { label, serial: serials.getBigUint64(0, true), startSector: firstLba, time, files: [] })
  else await formatExfat(place, { label, serial: serials.getUint32(0, true), startSector: firstLba })
  await device.flush()
  await writeGpt(device, {
    diskGuid: guidByChance(chance.subarray(0, 16)),
    entryCount: 128,
    entrySize: 128,
    partitions: [
      {
        ...{
          number: 1,
          firstLba,
          lastLba,
          typeGuid: TYPE_GUIDS.basicData,
          guid: guidByChance(chance.subarray(16, 32)),
        },
        ...{ name: 'Basic data partition', attributes: '0000000000000000' },
      },
    ],
  })
  await device.flush()
  await device.uncache?.()
  await expectMade(device, wish)
}

/** What was made is what a survey finds. Rejects with CoreError. */
async function expectMade(device: BlockDevice, { kind, label }: DataVolumeWish): Promise<void> {
  const { partitions, findings } = await surveyDrive(device, () => new Uint8Array(32))
  const [made] = partitions
  const wrong = [...findings, ...(made?.findings ?? [])].find((f) => f.severity !== 'note')
  if (partitions.length === 1 && made.volume?.kind === kind && made.volume.label === label && !wrong) return
  throw new CoreError(`The volume does not read back as it was made${wrong ? `: ${wrong.sentence}` : ''}.`)
}
