import { execFile } from 'node:child_process'
import type { Health } from '@/core/health/health'
import { healthFrom } from '@/core/health/smartctl'

/** A drive that does not answer within this time tells nothing. */
const PATIENCE_MS = 20_000

/**
 * What a drive reports of its health, by smartctl; undefined where that is not installed, or nothing is reported through
 * its link. A disk that sleeps is not woken for it.
 */
export function healthOf(path: string): Promise<Health | undefined> {
  const words = ['--json', '--health', '--attributes', '--nocheck=standby', path]
  return new Promise((resolve) => {
    // Its exit tells of the drive's state, and what it printed is read all the same.
    execFile('smartctl', words, { timeout: PATIENCE_MS, maxBuffer: 2 ** 22 }, (_, out) =>
      resolve(healthFrom(out ?? '')),
    )
  })
}
