import type { BlockDevice } from '@/core/block/device'
import { SliceDevice } from '@/core/block/slice'
import { makeLoader } from '@/core/boot/signature'
import { SIGNERS } from '@/core/boot/types'
import { sha256 } from '@/host/sha256'
import { makeStore, makeSystemHive, type NewSystemHive, type StoreDevice } from '@/core/boot/store'
import { alignDown, MIB } from '@/core/bytes/size'
import { formatFat32 } from '@/core/filesystem/fat/format'
import type { NewFile } from '@/core/filesystem/new-files'
import { formatNtfs } from '@/core/filesystem/ntfs/format'
import { makeHive } from '@/core/registry/make'
import { usableRange, writeGpt } from '@/core/scheme/gpt'
import { type GptPartition, TYPE_GUIDS } from '@/core/scheme/types'
import { noise, seeded } from '../../random'

// Pieces from which the scenario's disks are put together.

/** FILETIME of 3 March 2026, 08:00 UTC: when the shop's customers' computers were last serviced. */
export const SERVICED = 134_169_120_000_000_000n
export const NO_LETTER = '8000000000000001'
const PLAIN = '0000000000000000'
const SECTOR = 512

export function sectors(mib: number): number {
  return (mib * MIB) / SECTOR
}

export function text(value: string): Uint8Array {
  return new TextEncoder().encode(value)
}

/** A partition of a device as a device of its own. */
export function slice(device: BlockDevice, part: { firstLba: number; lastLba: number }): SliceDevice {
  return new SliceDevice(device, part.firstLba * SECTOR, (part.lastLba - part.firstLba + 1) * SECTOR)
}

/** What a partition of a new GPT is to be; `mib` is left out for the one that takes what is left. */
export interface Planned {
  readonly typeGuid: string
  readonly guid: string
  readonly name: string
  readonly mib?: number
  readonly attributes?: string
}

export const ESP = (guid: string, mib = 100): Planned => ({
  typeGuid: TYPE_GUIDS.efiSystem,
  guid,
  name: 'EFI system partition',
  mib,
  attributes: NO_LETTER,
})
export const RESERVED = (guid: string): Planned => ({
  typeGuid: TYPE_GUIDS.reserved,
  guid,
  name: 'Microsoft reserved partition',
  mib: 16,
  attributes: NO_LETTER,
})
export const BASIC_DATA = (guid: string, mib?: number): Planned => ({
  typeGuid: TYPE_GUIDS.basicData,
  guid,
  name: 'Basic data partition',
  mib,
})
export const RECOVERY = (guid: string, mib: number): Planned => ({
  typeGuid: TYPE_GUIDS.recovery,
  guid,
  name: '',
  mib,
  attributes: NO_LETTER,
})

/** Lays partitions out one behind the other from 1 MiB on, writes the table and gives them back in order. */
export async function layOut(device: BlockDevice, diskGuid: string, plan: readonly Planned[]): Promise<GptPartition[]> {
  const end = alignDown(usableRange(device.size, SECTOR).lastLba + 1, 2048)
  const fixed = plan.reduce((sum, p) => sum + sectors(p.mib ?? 0), 0)
  let next = 2048
  const partitions = plan.map(({ typeGuid, guid, name, mib, attributes }, i): GptPartition => {
    const length = mib === undefined ? end - 2048 - fixed : sectors(mib)
    const firstLba = next
    next += length
    return { number: i + 1, typeGuid, guid, name, firstLba, lastLba: next - 1, attributes: attributes ?? PLAIN }
  })
  await writeGpt(device, { diskGuid, entryCount: 128, entrySize: 128, partitions })
  return partitions
}

/** A loader of the usual system around this code, with its maker's signature. */
export function systemLoader(code: Uint8Array): Uint8Array {
  return makeLoader(code, SIGNERS[0], sha256)
}

/** An EFI system partition with a loader. */
export async function fillEsp(
  device: BlockDevice,
  part: GptPartition,
  serial: number,
  code: Uint8Array,
  store: Uint8Array,
): Promise<void> {
  const signed = systemLoader(code)
  await formatFat32(slice(device, part), {
    label: 'SYSTEM',
    serial,
    startSector: part.firstLba,
    files: [
      { path: '/EFI/Microsoft/Boot/bootmgfw.efi', content: signed },
      { path: '/EFI/Microsoft/Boot/BCD', content: store },
      { path: '/EFI/BOOT/BOOTX64.EFI', content: signed },
    ],
  })
}

/** An NTFS volume on a partition. */
export async function fillNtfs(
  device: BlockDevice,
  part: { firstLba: number; lastLba: number },
  label: string,
  serial: bigint,
  files: readonly NewFile[],
  dirty = false,
): Promise<void> {
  await formatNtfs(slice(device, part), { label, serial, startSector: part.firstLba, time: SERVICED, files, dirty })
}

/** A partition of a GPT as boot settings name it. */
export function inGpt(diskGuid: string, partition: { guid: string }): StoreDevice {
  return { scheme: 'gpt', diskGuid, partitionGuid: partition.guid }
}

/** Boot settings with one entry for a Windows. */
export function windowsStore(entryId: string, manager: StoreDevice, system: StoreDevice, title: string): Uint8Array {
  const path = `\\Windows\\system32\\winload.${manager.scheme === 'gpt' ? 'efi' : 'exe'}`
  const entries = [{ id: entryId, description: title, path, device: system }]
  return makeStore({ managerDevice: manager, entries }, SERVICED)
}

export interface WindowsRelease {
  /** Where it lies, by which it knows its letter C. */
  readonly at: StoreDevice
  readonly product: string
  readonly build: string
  readonly release?: string
  /** `winload.efi`, or with a BIOS `winload.exe`. */
  readonly loader?: string
  readonly seed: number
  readonly pageMib: number
  /** A hibernation file of this size, and whether the system sleeps in it. */
  readonly hibernation?: { readonly mib: number; readonly asleep: boolean }
  /** The controller that its drive sits at; SATA where nothing is said. */
  readonly controller?: 'SATA' | 'NVMe'
  /** Devices of its computer, and fixed addresses. */
  readonly met?: Pick<NewSystemHive, 'devices' | 'addresses'>
}

/** What Windows notes of its own setup: that it is done, and for this computer. */
const SET_UP = { values: { ImageState: 'IMAGE_STATE_COMPLETE' } }

/** What a start of Windows reads, its settings, and the files it makes anew. */
export function windowsFiles(system: WindowsRelease): NewFile[] {
  const { at, product, build, release, loader = 'winload.efi', seed, pageMib, hibernation, met, controller } = system
  const currentVersion = {
    values: {
      ProductName: product,
      CurrentBuild: build,
      CurrentBuildNumber: build,
      ...(release ? { DisplayVersion: release } : {}),
      SystemRoot: 'C:\\Windows',
    },
  }
  const software = makeHive(
    'SOFTWARE',
    {
      keys: {
        Microsoft: {
          keys: {
            'Windows NT': { keys: { CurrentVersion: currentVersion } },
            Windows: { keys: { CurrentVersion: { keys: { Setup: { keys: { State: SET_UP } } } } } },
          },
        },
      },
    },
    SERVICED,
  )
  // Which of them start with the loader; the one for a controller that the computer has not waits to be asked.
  const early = { disk: 0, partmgr: 0, volmgr: 0, mountmgr: 0, ntfs: 0, usbstor: 3 }
  const storage = controller === 'NVMe' ? { storahci: 3, stornvme: 0 } : { storahci: 0, stornvme: 3 }
  const drivers = { ...early, ...(loader === 'winload.exe' ? { msahci: 0 } : storage) }
  return [
    { path: `/Windows/System32/${loader}`, content: noise(1_200_000, seed) },
    { path: '/Windows/System32/ntoskrnl.exe', content: noise(640_000, seed + 1) },
    { path: '/Windows/System32/hal.dll', content: noise(24_000, seed + 2) },
    { path: '/Windows/System32/config/SOFTWARE', content: software },
    { path: '/Windows/System32/config/SYSTEM', content: makeSystemHive({ system: at, drivers, ...met }, SERVICED) },
    ...Object.keys(drivers).map((name, i) => ({
      path: `/Windows/System32/drivers/${name}.sys`,
      content: noise(5_000 + i * 600, seed + 10 + i),
    })),
    ...Array.from({ length: 60 }, (_, i) => ({
      path: `/Windows/System32/component-${String(i).padStart(3, '0')}.dll`,
      content: noise(1_500 + ((i * 977) % 9_000), seed + 30 + i),
    })),
    { path: '/pagefile.sys', unwrittenBytes: pageMib * MIB, fragments: 2 },
    ...(hibernation ? hibernationFile(hibernation) : []),
  ]
}

function hibernationFile({ mib, asleep }: { mib: number; asleep: boolean }): NewFile[] {
  if (!asleep) return [{ path: '/hiberfil.sys', unwrittenBytes: mib * MIB }]
  // What the system keeps in front of its memory; the rest is left as it lies.
  return [{ path: '/hiberfil.sys', unwrittenBytes: mib * MIB, head: text('HIBR') }]
}

/** Customer files as clusters that were never written, laid out as years of use leave them. */
export function customerFiles(
  folders: readonly string[],
  usedBytes: number,
  options: { seed: number; extension: string; largestMib: number; scatteredBytes?: number },
): NewFile[] {
  const next = seeded(options.seed)
  const files: NewFile[] = []
  let left = usedBytes
  let free = options.scatteredBytes ?? 0
  for (let i = 0; left > 0; i++) {
    const folder = folders[i % folders.length]
    const size = Math.min(left, Math.floor((0.1 + next() * next()) * options.largestMib * MIB))
    const hole = next() < 0.4 ? Math.min(free, Math.floor(next() * next() * 1024 * MIB)) : 0
    free -= hole
    left -= size
    files.push({
      path: `${folder}/${String(i + 1).padStart(4, '0')}.${options.extension}`,
      unwrittenBytes: size,
      fragments: next() < 0.3 ? 2 + Math.floor(next() * 14) : 1,
      gap: Math.floor(hole / 4096),
    })
  }
  return files
}
