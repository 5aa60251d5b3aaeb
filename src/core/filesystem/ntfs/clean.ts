import { viewOf } from '../../bytes/struct'
import { asciiToString } from '../../bytes/struct'
import { CoreError } from '../../errors'
import { ATTRIBUTE_TYPES, RECORDS, VOLUME_DIRTY, VOLUME_INFORMATION } from './layout'
import type { NtfsVolume } from './volume'

const RESTART_PAGE = 4096
/** Of a restart area: the log was closed, and no client has it open. */
const LOG_CLEAN = 0x0002
const NO_CLIENT = 0xffff

/**
 * Refuses a volume whose records may not say what its files are: not closed, or with changes in its log that were
 * not carried out. `what` goes on from "so it". Throws CoreError.
 */
export async function refuseUnclean(volume: NtfsVolume, what: string): Promise<void> {
  const record = await volume.record(RECORDS.volume)
  const value = record.attributes.find((a) => a.type === ATTRIBUTE_TYPES.volumeInformation)?.value
  if (!value || VOLUME_INFORMATION.read(value).flags & VOLUME_DIRTY || volume.fromMirror) {
    throw new CoreError(`The volume was not closed cleanly, so it ${what} before a file-system check.`)
  }
  if (await logIsOpen(volume)) {
    throw new CoreError(
      `The log of the volume holds changes that were not carried out, so it ${what} before its system has closed it.`,
    )
  }
}

/** True when one of the two restart pages of $LogFile names a log that is in use. An emptied log is all ones. */
export async function logIsOpen(volume: NtfsVolume): Promise<boolean> {
  const log = await volume.stream(await volume.record(RECORDS.logFile), ATTRIBUTE_TYPES.data)
  if (!log || log.size < 2 * RESTART_PAGE) return false
  for (const at of [0, RESTART_PAGE]) {
    const page = await log.read(at, RESTART_PAGE)
    if (asciiToString(page.subarray(0, 4)) !== 'RSTR') continue
    const view = viewOf(page)
    const area = view.getUint16(24, true)
    if (area + 16 > page.length) continue
    const inUse = view.getUint16(area + 12, true)
    const flags = view.getUint16(area + 14, true)
    if (inUse !== NO_CLIENT && (flags & LOG_CLEAN) === 0) return true
  }
  return false
}
