import { UnreadableSectors } from '@/core/block/device'
import { type RequestCost, TimedDevice } from '@/core/block/timed'
import { measureSpeed, type Speed } from '@/core/intake/speed'
import { ClockedDevice } from '@/host/devices/clocked'
import { type Subject, withSubject } from './subject'

export interface MeasureOrder {
  readonly subject: Subject
  /** What a simulated drive and its link make of a request; null for one whose seconds are those of the clock. */
  readonly cost: RequestCost | null
  /** Where the drive is and over what, in words. */
  readonly over: string
}

/** What a drive does now. */
export function measureDrive({ subject, cost, over }: MeasureOrder): Promise<Speed> {
  return withSubject(subject, async (device) =>
    measureSpeed(cost ? new TimedDevice(device, cost) : await ClockedDevice.over(device), over),
  )
}

/** So much is read to measure a drive or its connection, and for no longer than this. */
const MOST_MEASURED = 96 * 1024 * 1024
const MOST_MS = 3000
const STEP = 8 * 1024 * 1024

/** Bytes per second that come from a drive over what it is reached by; null where too little is on it to tell. */
export function measureReading(subject: Subject): Promise<number | null> {
  return withSubject(subject, async (device) => {
    // Where that is not allowed, what the kernel keeps of it makes it look faster than it is.
    await device.uncache?.().catch(() => {})
    const into = new Uint8Array(STEP)
    const whole = [{ offset: 0, length: device.size }]
    let bytes = 0
    const start = performance.now()
    // Zeros do not travel, so that only what is written tells anything.
    for (const extent of device.mapped ? await device.mapped(0, Math.min(device.size, MOST_ASKED)) : whole) {
      for (let at = 0; at < extent.length; at += STEP) {
        const part = into.subarray(0, Math.min(STEP, extent.length - at))
        try {
          await device.read(extent.offset + at, part)
        } catch (error) {
          if (!(error instanceof UnreadableSectors)) throw error
          continue
        }
        bytes += part.length
        if (bytes >= MOST_MEASURED || performance.now() - start > MOST_MS) return bytes / secondsSince(start)
      }
    }
    return bytes >= STEP ? bytes / secondsSince(start) : null
  })
}

/** So much of it is asked for what is written there. */
const MOST_ASKED = 64 * 1024 ** 3

const secondsSince = (start: number) => Math.max(0.001, (performance.now() - start) / 1000)
