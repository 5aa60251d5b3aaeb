import { type BlockDevice, readBytes } from '../block/device'
import { OverlayDevice } from '../block/overlay'
import { CoreError } from '../errors'
import type { Patch } from './port'

/** What a repair may change at most; both what was and what is to be are kept. */
const MAX_CHANGED_BYTES = 96 * 1024 * 1024

/**
 * What `work` would write to a device, as the runs of sectors that become others; the device is only read. Rejects with
 * CoreError where that is more than can be kept for taking it back, and as `work` does.
 */
export async function patchesOf(
  device: BlockDevice,
  work: (overlay: BlockDevice) => Promise<unknown>,
): Promise<Patch[]> {
  const overlay = new OverlayDevice(device)
  await work(overlay)
  return changesBetween(device, overlay)
}

/** The runs of sectors in which an overlay of a device differs from it. */
export async function changesBetween(device: BlockDevice, overlay: OverlayDevice): Promise<Patch[]> {
  const sector = device.logicalSectorSize
  const patches: Patch[] = []
  let total = 0
  for (const { offset, length } of overlay.changed()) {
    const before = (await readBytes(device, offset, length)).slice()
    const after = (await readBytes(overlay, offset, length)).slice()
    // A volume's own tables may be written whole where a few bits of them change.
    const [wordsBefore, wordsAfter] = [new Int32Array(before.buffer), new Int32Array(after.buffer)]
    let from: number | undefined
    for (let at = 0; at <= length; at += sector) {
      const differs = at < length && !sameWords(wordsBefore, wordsAfter, at / 4, (at + sector) / 4)
      if (differs) from ??= at
      else if (from !== undefined) {
        patches.push({ offset: offset + from, before: before.slice(from, at), after: after.slice(from, at) })
        total += at - from
        from = undefined
      }
    }
    if (total > MAX_CHANGED_BYTES) throw new CoreError('This changes more of the drive than can be kept to undo it.')
  }
  return patches
}

function sameWords(a: Int32Array, b: Int32Array, from: number, to: number): boolean {
  for (let i = from; i < to; i++) if (a[i] !== b[i]) return false
  return true
}
