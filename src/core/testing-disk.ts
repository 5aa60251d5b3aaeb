import { createHash } from 'node:crypto'
import { blake3 as blake3Of } from '@napi-rs/blake-hash'
import { type BlockDevice, isZero, readBytes } from './block/device'
import { MemoryDevice } from './block/memory'
import { SliceDevice } from './block/slice'
import { MIB } from './bytes/size'
import { makeStore, makeSystemHive, type NewSystemHive, type StoreDevice } from './boot/store'
import { makeLoader } from './boot/signature'
import { type Firmware, SIGNERS } from './boot/types'
import { toHex } from './digest'
import { formatFat32 } from './filesystem/fat/format'
import type { NewFile } from './filesystem/new-files'
import { formatNtfs } from './filesystem/ntfs/format'
import { usableRange, writeGpt } from './scheme/gpt'
import { MBR_TYPES } from './scheme/mbr-layout'
import { mbrWrites } from './scheme/mbr-write'
import { type GptPartition, TYPE_GUIDS } from './scheme/types'
import { pattern, utf8 } from './testing'

/** SHA-256, as the server hands it to core. */
export const sha256 = (bytes: Uint8Array): Uint8Array => createHash('sha256').update(bytes).digest()
/** The digest of copies, which is many times quicker. */
export const blake3 = (bytes: Uint8Array): Uint8Array => blake3Of(bytes)

export const ESP_GUID = '7c1e0a55-3b1c-4f6e-9d2a-5b8f3c0da204'
export const SYSTEM_GUID = '5d20b7c1-90aa-4e3f-8a11-6c0f2b7ee81b'

export const DISK_GUID = '91f0c1d2-1111-4222-8333-4444555533c7'
const ENTRY_ID = 'c2a4e6f8-1b3d-4a5c-8e7f-9d0b2c4e6a81'

export interface TestDisk {
  readonly sizeBytes?: number
  readonly systemFiles?: readonly NewFile[]
  readonly dirty?: boolean
  readonly loader?: Uint8Array
  /** False leaves out the loader where firmware looks last. */
  readonly fallback?: boolean
  /** Devices and fixed addresses that its system has met. */
  readonly met?: Pick<NewSystemHive, 'devices' | 'addresses'>
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
  const table = { diskGuid: DISK_GUID, entryCount: 128, entrySize: 128, partitions }
  await writeGpt(device, table)
  const loader = options.loader ?? signedLoader(1)
  const inGpt = (partitionGuid: string): StoreDevice => ({ scheme: 'gpt', diskGuid: DISK_GUID, partitionGuid })
  const entry = { id: ENTRY_ID, description: 'Windows 10', path: '\\Windows\\system32\\winload.efi' }
  const store = makeStore({ managerDevice: inGpt(ESP_GUID), entries: [{ ...entry, device: inGpt(SYSTEM_GUID) }] }, 1n)
  await formatFat32(slice(device, partitions[0]), {
    label: 'ESP',
    serial: 1,
    startSector: partitions[0].firstLba,
    files: [
      { path: '/EFI/Microsoft/Boot/bootmgfw.efi', content: loader },
      ...(options.fallback === false ? [] : [{ path: '/EFI/BOOT/BOOTX64.EFI', content: loader }]),
      { path: '/EFI/Microsoft/Boot/BCD', content: store },
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
      ...windowsFiles('winload.efi', inGpt(SYSTEM_GUID), options.met),
      { path: '/Windows/notes.txt', content: pattern(3000, 3) },
      ...(options.systemFiles ?? [{ path: '/Collection/scan.tif', unwrittenBytes: 60 * MIB, fragments: 6 }]),
    ],
  })
  await formatNtfs(slice(device, partitions[3]), { ...volume, label: 'Recovery', serial: 78n, files: [] })
  return device
}

/** What a start reads of a Windows that lies there. */
function windowsFiles(loader: string, at: StoreDevice, met: TestDisk['met'] = {}): NewFile[] {
  const drivers = { storahci: 0, stornvme: 3 }
  return [
    { path: `/Windows/System32/${loader}`, content: pattern(70_000, 2) },
    { path: '/Windows/System32/ntoskrnl.exe', content: pattern(90_000, 4) },
    { path: '/Windows/System32/config/SYSTEM', content: makeSystemHive({ system: at, drivers, ...met }, 1n) },
    ...Object.keys(drivers).map((name, i) => ({
      path: `/Windows/System32/drivers/${name}.sys`,
      content: pattern(4000, 5 + i),
    })),
  ]
}

/** A loader with that signer’s signature; unsigned for an empty name. */
export const signedLoader = (seed: number, signer: string = SIGNERS[0]): Uint8Array =>
  makeLoader(pattern(50_000, seed), signer || undefined, sha256)

export const ROOT_UUID = '3e6be9de-8139-4c2f-9106-a43f08d823a6'

/** A small disk whose loader names a Linux root by its UUID; the root's partition, at 41 MiB, is left empty. */
export async function makeLinuxDisk(): Promise<MemoryDevice> {
  const device = new MemoryDevice(160 * MIB)
  const partitions = [
    part(1, TYPE_GUIDS.efiSystem, ESP_GUID, '', 2048, 40 * 2048),
    part(2, TYPE_GUIDS.linuxData, SYSTEM_GUID, '', 41 * 2048, 64 * 2048),
  ]
  await writeGpt(device, { diskGuid: DISK_GUID, entryCount: 128, entrySize: 128, partitions })
  await formatFat32(slice(device, partitions[0]), {
    label: 'ESP',
    serial: 3,
    startSector: 2048,
    files: [
      { path: '/EFI/BOOT/BOOTX64.EFI', content: signedLoader(5) },
      { path: '/EFI/BOOT/grub.cfg', content: utf8(`# made\nsearch.fs_uuid ${ROOT_UUID} root\n`) },
    ],
  })
  return device
}

export const SIGNATURE = '7b3f0c11'
export const BIOS_FIRMWARE = (): Firmware => ({ ...FIRMWARE, mode: 'bios', bootEntries: [], bootOrder: [] })

/** A small disk that starts by BIOS: an active partition with the loader, and a system volume behind it. */
export async function makeBiosDisk(
  systemFirstLba = 33 * 2048,
  systemFiles: readonly NewFile[] = [],
): Promise<MemoryDevice> {
  const device = new MemoryDevice(160 * MIB)
  const boot = { firstLba: 2048, lastLba: 32 * 2048 - 1 }
  const system = { firstLba: systemFirstLba, lastLba: 150 * 2048 - 1 }
  const inMbr = ({ firstLba }: { firstLba: number }): StoreDevice => ({
    scheme: 'mbr',
    signature: SIGNATURE,
    offset: firstLba * 512,
  })
  const record = (p: { firstLba: number; lastLba: number }) => ({
    type: MBR_TYPES.ntfs,
    firstLba: p.firstLba,
    sectors: p.lastLba - p.firstLba + 1,
  })
  const table = {
    diskSignature: SIGNATURE,
    bootCode: pattern(400, 9),
    primary: [{ ...record(boot), active: true }, record(system)],
  }
  for (const { offset, bytes } of mbrWrites(table, 512)) await device.write(offset, bytes)
  const entry = { id: ENTRY_ID, description: 'Windows 7', path: '\\Windows\\system32\\winload.exe' }
  const store = makeStore({ managerDevice: inMbr(boot), entries: [{ ...entry, device: inMbr(system) }] }, 1n)
  const part = (p: { firstLba: number; lastLba: number }) =>
    new SliceDevice(device, p.firstLba * 512, (p.lastLba - p.firstLba + 1) * 512)
  await formatNtfs(part(boot), {
    label: 'System Reserved',
    serial: 79n,
    time: 1n,
    startSector: boot.firstLba,
    files: [
      { path: '/bootmgr', content: pattern(40_000, 10) },
      { path: '/Boot/BCD', content: store },
    ],
  })
  await formatNtfs(part(system), {
    label: 'Lighting',
    serial: 80n,
    time: 1n,
    startSector: system.firstLba,
    files: [...windowsFiles('winload.exe', inMbr(system)), ...systemFiles],
  })
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
  trustedSigners: [...SIGNERS],
  driveOrder: [],
}

/** A partition of a GPT by its first sector and length. */
export function part(
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

/** A digest of all that a device holds, zeros left out: two devices with one are byte-equal. */
export async function storedDigest(device: MemoryDevice): Promise<string> {
  const parts: string[] = []
  for (const { offset, length } of await device.mapped(0, device.size)) {
    for (let at = offset; at < offset + length; at += 65536) {
      const bytes = await readBytes(device, at, Math.min(65536, offset + length - at))
      if (!isZero(bytes)) parts.push(`${at} ${toHex(blake3(bytes))}`)
    }
  }
  return toHex(blake3(new TextEncoder().encode(parts.join('\n'))))
}
