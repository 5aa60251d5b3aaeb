import { CoreError } from '../errors'
import type { FileSystem } from '../filesystem'
import { MBR_TYPES } from '../scheme/mbr-layout'
import { ATTRIBUTES, type TablePartition, TYPE_GUIDS } from '../scheme/types'
import type { InstalledSystem, Role } from './types'

/** What a partition's type alone says of its role; undefined where the content decides. */
const BY_TYPE_GUID: Readonly<Record<string, Role>> = {
  [TYPE_GUIDS.efiSystem]: 'boot',
  [TYPE_GUIDS.biosBoot]: 'boot',
  [TYPE_GUIDS.linuxBoot]: 'boot',
  [TYPE_GUIDS.reserved]: 'reserved',
  [TYPE_GUIDS.recovery]: 'recovery',
  [TYPE_GUIDS.appleBoot]: 'recovery',
  [TYPE_GUIDS.linuxSwap]: 'swap',
}
const BY_MBR_TYPE: Readonly<Record<number, Role>> = {
  [MBR_TYPES.extended]: 'extended',
  [MBR_TYPES.extendedLba]: 'extended',
  [MBR_TYPES.linuxExtended]: 'extended',
  [MBR_TYPES.efiSystem]: 'boot',
  [MBR_TYPES.recovery]: 'recovery',
  [MBR_TYPES.linuxSwap]: 'swap',
}
const DATA_TYPE_GUIDS: readonly string[] = [
  TYPE_GUIDS.basicData,
  TYPE_GUIDS.linuxData,
  TYPE_GUIDS.linuxRoot,
  TYPE_GUIDS.linuxHome,
  TYPE_GUIDS.linuxLvm,
  TYPE_GUIDS.linuxLuks,
  TYPE_GUIDS.appleHfs,
  TYPE_GUIDS.appleApfs,
]

const DATA_MBR_TYPES: readonly number[] = [
  MBR_TYPES.fat12,
  MBR_TYPES.fat16Small,
  MBR_TYPES.fat16,
  MBR_TYPES.fat16Lba,
  MBR_TYPES.fat32,
  MBR_TYPES.fat32Lba,
  MBR_TYPES.ntfs,
  MBR_TYPES.linux,
  MBR_TYPES.linuxLvm,
  MBR_TYPES.hfs,
]

/** Files that only a partition which starts a system holds, when the system itself lies elsewhere. */
const BOOT_FILES = ['/bootmgr', '/Boot/BCD', '/grub/grub.cfg', '/grub2/grub.cfg', '/loader/loader.conf']
const RECOVERY_FILES = ['/Recovery/WindowsRE/Winre.wim']

/** What is on the partition, as far as its role follows from it. */
export interface Content {
  readonly fileSystem?: FileSystem
  readonly system?: InstalledSystem
}

/** The role of a partition: by its type where that is plain, else by what is on it. */
export async function roleOf(entry: TablePartition, { fileSystem, system }: Content): Promise<Role> {
  const byType = entry.mbr ? BY_MBR_TYPE[entry.mbr.type] : BY_TYPE_GUID[entry.typeGuid]
  if (byType) return byType
  if (system) return 'system'
  if (fileSystem?.kind === 'swap') return 'swap'
  if (fileSystem?.depth === 'files') {
    if (await holdsAny(fileSystem, BOOT_FILES)) return 'boot'
    if (await holdsAny(fileSystem, RECOVERY_FILES)) return 'recovery'
  }
  const isData = entry.mbr ? DATA_MBR_TYPES.includes(entry.mbr.type) : DATA_TYPE_GUIDS.includes(entry.typeGuid)
  return fileSystem || isData ? 'data' : 'unknown'
}

async function holdsAny(fileSystem: FileSystem, paths: readonly string[]): Promise<boolean> {
  for (const path of paths) {
    try {
      if (await fileSystem.stat(path)) return true
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
      return false
    }
  }
  return false
}

/** MBR types that hide a partition from the systems that give out letters. */
const HIDDEN_MBR_TYPES: readonly number[] = [0x11, 0x14, 0x16, 0x17, 0x1b, 0x1c, 0x1e, MBR_TYPES.recovery]

/** Whether a running system shows the partition to its user. */
export function hasLetter(entry: TablePartition, role: Role): boolean {
  if (role !== 'system' && role !== 'data') return false
  if (entry.mbr) return !HIDDEN_MBR_TYPES.includes(entry.mbr.type)
  return entry.typeGuid === '' || (BigInt(`0x${entry.attributes}`) & ATTRIBUTES.noDriveLetter) === 0n
}

const ROLE_TITLES: Record<Role, string> = {
  boot: 'EFI system',
  reserved: 'Reserved',
  system: 'System',
  recovery: 'Recovery',
  data: 'Data',
  swap: 'Swap',
  extended: 'Extended',
  unknown: 'Partition',
}

/** What people call a partition. */
export function titleOf(
  role: Role,
  entry: TablePartition,
  label: string,
  family: InstalledSystem['family'] | undefined,
): string {
  // Windows calls the volume it runs from C:, wherever that lies.
  if (role === 'system' && family === 'windows') return `${label || ROLE_TITLES.system} (C:)`
  if (role === 'system' || role === 'data') return label || entry.name || ROLE_TITLES[role]
  if (role === 'boot' && entry.typeGuid !== TYPE_GUIDS.efiSystem && entry.mbr?.type !== MBR_TYPES.efiSystem) {
    return label || 'Boot'
  }
  return role === 'unknown' ? entry.name || `Partition ${entry.number}` : ROLE_TITLES[role]
}
