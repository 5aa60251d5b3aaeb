import { sliceOf } from '../../boot/start'
import { groupDigits } from '../../bytes/size'
import { CoreError } from '../../errors'
import { putFatFile } from '../../filesystem/fat/put-file'
import { FALLBACK_PATH, KNOWN_SYSTEMS } from '../../survey/known-systems'
import { bootPlace } from '../places'
import type { RepairKind } from '../port'
import { patchesOf } from '../written'

/** Firmware that has no entry for a drive looks at one path, which has to hold a loader. */
export const fallbackLoader: RepairKind = {
  name: 'fallback-loader',
  title: 'Put the loader where firmware looks last',
  async plan(subject) {
    if (subject.mode !== 'uefi') throw new CoreError('A BIOS looks for no loader file.')
    const { partition, volume } = await bootPlace(subject)
    if ((await volume.stat(FALLBACK_PATH))?.kind === 'file') return { changes: [], patches: [] }
    for (const { bootLoaderPath } of KNOWN_SYSTEMS) {
      if (!bootLoaderPath.endsWith('.efi') || (await volume.stat(bootLoaderPath))?.kind !== 'file') continue
      const content = await volume.readFile(bootLoaderPath)
      const start = partition.firstLba * subject.device.logicalSectorSize
      const patches = await patchesOf(sliceOf(subject.device, partition), (esp) =>
        putFatFile(esp, FALLBACK_PATH, content),
      )
      return {
        changes: [
          `On partition ${partition.number}, ${FALLBACK_PATH} is made: the same ${groupDigits(content.length)} bytes as ${bootLoaderPath}.`,
        ],
        patches: patches.map((p) => ({ ...p, offset: start + p.offset })),
      }
    }
    throw new CoreError('The EFI system partition holds no loader that is known here.')
  },
}
