import type { BlockDevice } from '../block/device'
import { SliceDevice } from '../block/slice'
import type { Digest } from '../digest'
import { orUndefined } from '../errors'
import { openFileSystem } from '../filesystem'
import { TYPE_GUIDS } from '../scheme/types'
import { FALLBACK_PATH, KNOWN_SYSTEMS, MAX_LOADER_BYTES, OWN_LOADER_PATH } from '../survey/known-systems'
import type { DriveSurvey, PartitionSurvey } from '../survey/types'
import { readSignature, type Signature } from './signature'

/** A loader, and who signed it. */
export interface SignedLoader {
  readonly path: string
  readonly signature: Signature
}

/**
 * The loader that firmware which knows nothing of a drive would start of it by UEFI: the one at the fallback path, or
 * else the system's own. Undefined where it has none. The drive is only read.
 */
export async function loaderOn(
  device: BlockDevice,
  { partitions }: DriveSurvey,
  digest: Digest,
): Promise<SignedLoader | undefined> {
  const own = KNOWN_SYSTEMS.map((s) => s.bootLoaderPath).filter((path) => path.toUpperCase().startsWith('/EFI/'))
  const esp = partitions.filter((p) => p.typeGuid === TYPE_GUIDS.efiSystem)
  const homes = partitions.filter((p) => p.system?.family === 'windows')
  const places: [PartitionSurvey[], string][] = [
    [esp, FALLBACK_PATH],
    ...own.map((path): [PartitionSurvey[], string] => [esp, path]),
    [homes, OWN_LOADER_PATH],
  ]
  for (const [volumes, path] of places) {
    for (const { startBytes, sizeBytes } of volumes) {
      const look = async () => {
        const volume = await openFileSystem(new SliceDevice(device, startBytes, sizeBytes))
        const file = await volume?.stat(path)
        if (file?.kind !== 'file' || file.sizeBytes > MAX_LOADER_BYTES) return undefined
        return { path, signature: readSignature(await volume!.readFile(path), digest) }
      }
      const found = await look().catch(orUndefined)
      if (found) return found
    }
  }
  return undefined
}
