import { identityOf } from '@/core/boot/start'
import { readScheme } from '@/core/scheme'
import { type Drive, hasBytes, isWithinReach } from '@/core/things/drive'
import { withDrive } from '..'

/** The first two of these drives that carry one disk identity, in their order; undefined when all differ. */
export async function findDuplicateDiskIds(drives: readonly Drive[]): Promise<[Drive, Drive] | undefined> {
  const seen = new Map<string, Drive>()
  for (const drive of drives) {
    // What hands have put into another computer can no longer be read here.
    if (!hasBytes(drive) || (drive.kernel && !isWithinReach(drive))) continue
    const reading = await withDrive(drive, readScheme)
    if (!reading || reading.scheme === 'damaged') continue
    const identity = identityOf(reading)
    const twin = seen.get(identity)
    if (twin) return [twin, drive]
    seen.set(identity, drive)
  }
  return undefined
}
