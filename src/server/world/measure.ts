import type { Speed } from '@/core/intake/speed'
import { type BenchState, berthOf } from '@/core/things/bench'
import { type Drive, hasBytes, isWithinReach } from '@/core/things/drive'
import { LINKS } from '@/core/things/links'
import { runTask } from '../jobs/threads'
import { driveSubject } from '.'

/** How long a drive tries a sector that it cannot read, as common drives do. */
const RETRY_SECONDS = 2

/** What a drive does where it is; undefined for one that is not connected, or has no bytes. */
export async function speedOf(drive: Drive, bench: BenchState, signal?: AbortSignal): Promise<Speed | undefined> {
  const berth = berthOf(drive, bench)
  if (!berth.link || !hasBytes(drive) || !isWithinReach(drive)) return undefined
  const link = LINKS[berth.link]
  const modelled = {
    readBytesPerSecond: Math.min(drive.readBytesPerSecond, link.bytesPerSecond),
    requestSeconds: drive.requestSeconds,
    retrySeconds: RETRY_SECONDS,
  }
  const cost = drive.kernel ? null : modelled
  const order = { subject: driveSubject(drive), cost, over: `${berth.name}, ${link.name}` }
  return runTask('measureDrive', order, { signal, long: true })
}
