import { type Digest, toHex } from '../digest'
import { CoreError } from '../errors'
import type { FileSystem } from '../filesystem'

/** How a system is known by the files that start it. */
export interface KnownSystem {
  readonly name: string
  /** On the system volume. */
  readonly loaderPath: string
  /** On the EFI system partition. */
  readonly bootLoaderPath: string
}

/** Systems this program can recognise; a new one is one line here. */
export const KNOWN_SYSTEMS: readonly KnownSystem[] = [
  {
    name: 'Windows',
    loaderPath: '/Windows/System32/winload.efi',
    bootLoaderPath: '/EFI/Microsoft/Boot/bootmgfw.efi',
  },
]

/** Where firmware looks when no boot entry holds (UEFI 2.10, section 3.5.1.1), for x86-64. */
export const FALLBACK_PATH = '/EFI/BOOT/BOOTX64.EFI'
export const LOADER_EXTENSION = '.efi'

/** The system that a volume holds, with the digest of its loader, or undefined. */
export async function systemOn(fileSystem: FileSystem, digest: Digest) {
  for (const { name, loaderPath } of KNOWN_SYSTEMS) {
    try {
      const loader = await fileSystem.stat(loaderPath)
      if (loader?.kind !== 'file') continue
      return { name, loaderPath, loaderDigest: toHex(digest(await fileSystem.readFile(loaderPath))) }
    } catch (error) {
      // A damaged directory hides the system; the survey reports the damage itself.
      if (!(error instanceof CoreError)) throw error
    }
  }
  return undefined
}
