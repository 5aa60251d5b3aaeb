import { type BlockDevice, readBytes } from '../block/device'
import type { MemoryDevice } from '../block/memory'
import { sliceOf } from '../boot/start'
import { deviceBytes, ELEMENTS, elementPath, LETTER_C, STORE_OBJECTS } from '../boot/store'
import type { Firmware } from '../boot/types'
import { openFileSystem } from '../filesystem'
import { HiveEditor } from '../registry/edit'
import { readScheme } from '../scheme'
import { MBR_RECORDS_OFFSET } from '../scheme/mbr-layout'
import { BIOS_FIRMWARE, DISK_GUID, ESP_GUID, FIRMWARE, makeBiosDisk, makeSystemDisk } from '../testing-disk'
import { patchesOfFile, SYSTEM_HIVE_PATH } from './places'

export const ENTRY = 'c2a4e6f8-1b3d-4a5c-8e7f-9d0b2c4e6a81'
export const NOWHERE = {
  scheme: 'gpt',
  diskGuid: '00000000-0000-4000-8000-000000000001',
  partitionGuid: ESP_GUID,
} as const

/** Changes a file of a disk where it lies, as something that went wrong would have. */
export async function spoil(
  device: BlockDevice,
  mode: Firmware['mode'],
  path: string,
  change: (bytes: Uint8Array) => Promise<Uint8Array>,
) {
  const reading = (await readScheme(device))!
  for (const partition of reading.partitions) {
    const volume = await openFileSystem(sliceOf(device, partition)).catch(() => undefined)
    if (volume?.depth !== 'files' || (await volume.stat(path))?.kind !== 'file') continue
    const before = await volume.readFile(path)
    const subject = {
      candidate: { drive: { driveId: '', name: '', slot: '', device }, reading: reading as never },
      device,
      mode,
      time: 1n,
    }
    for (const p of await patchesOfFile(subject, { partition, volume }, path, before, await change(before)))
      await device.write(p.offset, p.after)
    return
  }
  throw new Error(`${path} is not on the disk.`)
}

export const set = (key: string, name: string, value: string | number | Uint8Array) => async (bytes: Uint8Array) => {
  const editor = await HiveEditor.open(bytes)
  await editor.set((await editor.key(key))!, name, value)
  return editor.done(2n)
}

/** What is wrong, the link that the start ends at, the repair, the firmware, the disk, and how it is made wrong. */
export type BrokenDisk = [
  what: string,
  link: string,
  repair: string,
  firmware: Firmware,
  make: () => Promise<MemoryDevice>,
  spoil: (device: MemoryDevice) => Promise<unknown>,
]

export const uefi = (path: string, change: (bytes: Uint8Array) => Promise<Uint8Array>) => (d: MemoryDevice) =>
  spoil(d, 'uefi', path, change)
export const bios = (path: string, change: (bytes: Uint8Array) => Promise<Uint8Array>) => (d: MemoryDevice) =>
  spoil(d, 'bios', path, change)
export const poke = (offset: number, bytes: number[]) => async (d: MemoryDevice) => {
  const sector = (await readBytes(d, Math.floor(offset / 512) * 512, 512)).slice()
  sector.set(bytes, offset % 512)
  await d.write(Math.floor(offset / 512) * 512, sector)
}

/** Disks whose start ends, each at a link that one repair mends. */
export const BROKEN_DISKS: readonly BrokenDisk[] = [
  [
    'boot settings that name another disk',
    'system-volume',
    'point-store',
    FIRMWARE,
    makeSystemDisk,
    uefi('/EFI/Microsoft/Boot/BCD', async (bytes) =>
      set(
        elementPath(ENTRY, ELEMENTS.systemDevice),
        'Element',
        deviceBytes(NOWHERE),
      )(await set(elementPath(ENTRY, ELEMENTS.device), 'Element', deviceBytes(NOWHERE))(bytes)),
    ),
  ],
  [
    'boot settings whose standard entry is gone',
    'settings',
    'standard-entry',
    FIRMWARE,
    makeSystemDisk,
    uefi(
      '/EFI/Microsoft/Boot/BCD',
      set(elementPath(STORE_OBJECTS.manager, ELEMENTS.default), 'Element', `{${DISK_GUID}}`),
    ),
  ],
  [
    'a driver that waits to be asked',
    'driver',
    'start-driver',
    FIRMWARE,
    makeSystemDisk,
    uefi(SYSTEM_HIVE_PATH, set('ControlSet001\\Services\\storahci', 'Start', 3)),
  ],
  [
    'a letter that belongs to another volume',
    'sign-in',
    'drive-letters',
    FIRMWARE,
    makeSystemDisk,
    uefi(SYSTEM_HIVE_PATH, set('MountedDevices', LETTER_C, new Uint8Array(24).fill(7))),
  ],
  [
    'a system partition that was moved',
    'system-volume',
    'point-store',
    BIOS_FIRMWARE(),
    () => makeBiosDisk(),
    bios('/Boot/BCD', async (bytes) =>
      set(
        elementPath(ENTRY, ELEMENTS.systemDevice),
        'Element',
        deviceBytes({ scheme: 'mbr', signature: '7b3f0c11', offset: 63 * 512 }),
      )(bytes),
    ),
  ],
  [
    'a disk with another signature',
    'system-volume',
    'point-store',
    BIOS_FIRMWARE(),
    () => makeBiosDisk(),
    poke(440, [1, 2, 3, 4]),
  ],
  [
    'boot settings whose standard entry is gone, by BIOS',
    'settings',
    'standard-entry',
    BIOS_FIRMWARE(),
    () => makeBiosDisk(),
    bios('/Boot/BCD', set(elementPath(STORE_OBJECTS.manager, ELEMENTS.default), 'Element', `{${DISK_GUID}}`)),
  ],
  [
    'a driver that waits to be asked, by BIOS',
    'driver',
    'start-driver',
    BIOS_FIRMWARE(),
    () => makeBiosDisk(),
    bios(SYSTEM_HIVE_PATH, set('ControlSet001\\Services\\storahci', 'Start', 3)),
  ],
  [
    'a letter that belongs to another volume, by BIOS',
    'sign-in',
    'drive-letters',
    BIOS_FIRMWARE(),
    () => makeBiosDisk(),
    bios(SYSTEM_HIVE_PATH, set('MountedDevices', LETTER_C, new Uint8Array(12).fill(7))),
  ],
  [
    'no active partition',
    'boot-partition',
    'active-partition',
    BIOS_FIRMWARE(),
    () => makeBiosDisk(),
    poke(MBR_RECORDS_OFFSET, [0]),
  ],
  [
    'two active partitions',
    'boot-partition',
    'active-partition',
    BIOS_FIRMWARE(),
    () => makeBiosDisk(),
    poke(MBR_RECORDS_OFFSET + 16, [0x80]),
  ],
  [
    'a count of sectors from before',
    'boot-partition',
    'hidden-sectors',
    BIOS_FIRMWARE(),
    () => makeBiosDisk(),
    poke(2048 * 512 + 28, [63, 0, 0, 0]),
  ],
]
