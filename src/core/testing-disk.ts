import { createHash } from 'node:crypto'
import type { BlockDevice } from './block/device'
import { MemoryDevice } from './block/memory'
import { SliceDevice } from './block/slice'
import { MIB } from './bytes/size'
import type { Firmware } from './boot/types'
import { formatFat32 } from './filesystem/fat/format'
import type { NewFile } from './filesystem/new-files'
import { formatNtfs } from './filesystem/ntfs/format'
import { usableRange, writeGpt } from './scheme/gpt'
import { type GptPartition, TYPE_GUIDS } from './scheme/types'
import { pattern } from './testing'

/** SHA-256, as the server hands it to core. */
export const sha256 = (bytes: Uint8Array): Uint8Array => createHash('sha256').update(bytes).digest()

export const ESP_GUID = '7c1e0a55-3b1c-4f6e-9d2a-5b8f3c0da204'
export const SYSTEM_GUID = '5d20b7c1-90aa-4e3f-8a11-6c0f2b7ee81b'

export interface TestDisk {
  readonly sizeBytes?: number
  readonly systemFiles?: readonly NewFile[]
  readonly dirty?: boolean
  readonly loader?: Uint8Array
}

/** A small system disk: ESP, reserved, NTFS system volume, recovery at the end. */
export async function makeSystemDisk(options: TestDisk = {}): Promise<MemoryDevice> {
  const device = new MemoryDevice(options.sizeBytes ?? 400 * MIB)
  const { lastLba } = usableRange(device.size, 512)
  const recoverySectors = (24 * MIB) / 512
  const recoveryStart = Math.floor((lastLba + 1 - recoverySectors) / 2048) * 2048
  const partitions: GptPartition[] = [
    part(1, TYPE_GUIDS.efiSystem, ESP_GUID, 'EFI system partition', 2048, 100 * 2048),
    part(2, TYPE_GUIDS.reserved, '11111111-2222-4333-8444-555555555502', 'Reserved', 101 * 2048, 16 * 2048),
    part(3, TYPE_GUIDS.basicData, SYSTEM_GUID, 'Basic data partition', 117 * 2048, recoveryStart - 117 * 2048),
    part(4, TYPE_GUIDS.recovery, '11111111-2222-4333-8444-555555555504', '', recoveryStart, recoverySectors),
  ]
  const table = { diskGuid: '91f0c1d2-1111-4222-8333-4444555533c7', entryCount: 128, entrySize: 128, partitions }
  await writeGpt(device, table)
  const loader = options.loader ?? pattern(50_000, 1)
  await formatFat32(slice(device, partitions[0]), {
    label: 'ESP',
    serial: 1,
    startSector: partitions[0].firstLba,
    files: [
      { path: '/EFI/Microsoft/Boot/bootmgfw.efi', content: loader },
      { path: '/EFI/BOOT/BOOTX64.EFI', content: loader },
    ],
  })
  const volume = { time: 1n, startSector: 0 }
  await formatNtfs(slice(device, partitions[2]), {
    ...volume,
    label: 'Harbour',
    serial: 77n,
    startSector: partitions[2].firstLba,
    dirty: options.dirty,
    files: [
      { path: '/Windows/System32/winload.efi', content: pattern(70_000, 2) },
      { path: '/Windows/notes.txt', content: pattern(3000, 3) },
      ...(options.systemFiles ?? [{ path: '/Collection/scan.tif', unwrittenBytes: 60 * MIB, fragments: 6 }]),
    ],
  })
  await formatNtfs(slice(device, partitions[3]), { ...volume, label: 'Recovery', serial: 78n, files: [] })
  return device
}

export const FIRMWARE: Firmware = {
  mode: 'uefi',
  secureBoot: true,
  startsFromUsb: true,
  startsFromNvme: true,
  startsBeyond2Tib: true,
  bootMenuKey: 'F11',
  bootEntries: [{ id: '0003', name: 'Windows', partitionGuid: ESP_GUID, path: '\\EFI\\Microsoft\\Boot\\bootmgfw.efi' }],
  bootOrder: ['0003'],
}

function part(
  number: number,
  typeGuid: string,
  guid: string,
  name: string,
  firstLba: number,
  sectors: number,
): GptPartition {
  return { number, typeGuid, guid, name, firstLba, lastLba: firstLba + sectors - 1, attributes: '0000000000000000' }
}

function slice(device: BlockDevice, { firstLba, lastLba }: GptPartition): SliceDevice {
  return new SliceDevice(device, firstLba * 512, (lastLba - firstLba + 1) * 512)
}
