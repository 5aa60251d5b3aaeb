import { viewOf } from '../bytes/struct'
import { type Digest, toHex } from '../digest'
import type { FileSystem } from '../filesystem'

/** How a system is known by the files that start it. */
export interface KnownSystem {
  readonly family: 'windows'
  readonly name: string
  /** On the system volume. */
  readonly loaderPath: string
  /** On the EFI system partition, or with a BIOS on the active partition. */
  readonly bootLoaderPath: string
}

/** Systems this program can recognise; a new one is one line here. */
export const KNOWN_SYSTEMS: readonly KnownSystem[] = [
  {
    family: 'windows',
    name: 'Windows',
    loaderPath: '/Windows/System32/winload.efi',
    bootLoaderPath: '/EFI/Microsoft/Boot/bootmgfw.efi',
  },
  { family: 'windows', name: 'Windows', loaderPath: '/Windows/System32/winload.exe', bootLoaderPath: '/bootmgr' },
]

/** Where firmware looks when no boot entry holds (UEFI 2.10, section 3.5.1.1), for x86-64. */
export const FALLBACK_PATH = '/EFI/BOOT/BOOTX64.EFI'
/** A system's own copy of its loader, which an EFI system partition is made of where there is none. */
export const OWN_LOADER_PATH = '/Windows/Boot/EFI/bootmgfw.efi'
/** Boot settings on an EFI system partition, and on the active partition of a BIOS. */
export const UEFI_STORE_PATH = '/EFI/Microsoft/Boot/BCD'
export const BIOS_STORE_PATH = '/Boot/BCD'
export const BIOS_LOADER_PATH = '/bootmgr'
/** Drivers of usual storage controllers by what their drives speak, by their service names. */
export const DRIVERS_OF = { SATA: ['storahci', 'msahci'], PCIe: ['stornvme'], eMMC: ['sdbus'] } as const
export const STORAGE_DRIVERS = [...DRIVERS_OF.SATA, ...DRIVERS_OF.PCIe, ...DRIVERS_OF.eMMC] as const
/** Where the first sector of a volume keeps how many sectors stand in front of it. */
export const HIDDEN_SECTORS_OFFSET = 28
export const LOADER_EXTENSION = '.efi'
/** A loader is a few megabytes; a longer file under its name is something else. */
export const MAX_LOADER_BYTES = 64 * 1024 * 1024

/** The system that a volume holds, with the digest of its loader, or undefined. Errors as the volume's reading. */
export async function systemOn(fileSystem: FileSystem, digest: Digest) {
  for (const { family, name, loaderPath } of KNOWN_SYSTEMS) {
    const loader = await fileSystem.stat(loaderPath)
    if (loader?.kind !== 'file' || loader.sizeBytes > MAX_LOADER_BYTES) continue
    const bytes = await fileSystem.readFile(loaderPath)
    const bits = bitsOf(bytes)
    return { family, name, loaderPath, loaderDigest: toHex(digest(bytes)), ...(bits ? { bits } : {}) }
  }
  return undefined
}

/** Of the machine that a PE image is made for (Microsoft PE/COFF specification, "Machine Types"); undefined for bytes that are none. */
function bitsOf(bytes: Uint8Array): 32 | 64 | undefined {
  const view = viewOf(bytes)
  if (bytes.length < 64 || view.getUint16(0, true) !== 0x5a4d) return undefined
  const header = view.getUint32(60, true)
  if (header + 6 > bytes.length || view.getUint32(header, true) !== 0x4550) return undefined
  const machine = view.getUint16(header + 4, true)
  // i386, and x86-64 or ARM64.
  if (machine === 0x14c) return 32
  return machine === 0x8664 || machine === 0xaa64 ? 64 : undefined
}
