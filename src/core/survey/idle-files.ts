import { CoreError, orUndefined } from '../errors'
import type { FileSystem } from '../filesystem'
import type { Finding } from '../findings'
import { asciiToString } from '../bytes/struct'
import { formatSize } from '../bytes/size'
import type { IdleFile } from './types'

/** Files that a system makes anew when it starts, by where each family keeps them. */
export const IDLE_PLACES: readonly { path: string; kind: IdleFile['kind'] }[] = [
  { path: '/pagefile.sys', kind: 'page' },
  { path: '/swapfile.sys', kind: 'swap' },
  { path: '/hiberfil.sys', kind: 'hibernation' },
  { path: '/swapfile', kind: 'swap' },
  { path: '/swap.img', kind: 'swap' },
  { path: '/private/var/vm/swapfile0', kind: 'swap' },
  { path: '/private/var/vm/sleepimage', kind: 'hibernation' },
]

/** How a sleeping Windows marks its hibernation file; anything else means that it is awake or was shut down. */
const ASLEEP = ['hibr', 'HIBR']

/** How a hibernation file begins. */
async function headOf(fileSystem: FileSystem, path: string, sizeBytes: number): Promise<string> {
  return sizeBytes < 4 ? '' : asciiToString(await fileSystem.readFile(path, 0, 4))
}

/**
 * Whether a system sleeps on a volume: then what it had open is in its hibernation file, and its page file belongs to
 * that.
 */
export async function sleepsOn(fileSystem: FileSystem): Promise<boolean> {
  for (const { path, kind } of IDLE_PLACES) {
    if (kind !== 'hibernation') continue
    const entry = await fileSystem.stat(path).catch(orUndefined)
    if (entry?.kind !== 'file') continue
    const head = await headOf(fileSystem, path, entry.sizeBytes).catch(orUndefined)
    // One that cannot be read may hold a system as well.
    if (head === undefined || ASLEEP.includes(head)) return true
  }
  return false
}

/** Page, swap and hibernation files of a volume, and whether a system sleeps on it. */
export async function idleFiles(fileSystem: FileSystem): Promise<{ files: IdleFile[]; findings: Finding[] }> {
  const files: IdleFile[] = []
  const findings: Finding[] = []
  for (const { path, kind } of IDLE_PLACES) {
    try {
      const entry = await fileSystem.stat(path)
      if (entry?.kind !== 'file') continue
      const head = kind === 'hibernation' ? await headOf(fileSystem, path, entry.sizeBytes) : ''
      const asleep = ASLEEP.includes(head)
      files.push({ path, kind, sizeBytes: entry.sizeBytes, asleep })
      if (asleep) {
        findings.push({
          severity: 'caution',
          code: 'system.hibernated',
          sentence:
            'The system on this volume sleeps: it was hibernated, or shut down with fast start. Start it and shut it down wholly before the copy.',
          evidence: `${path}, ${formatSize(entry.sizeBytes)}, begins with "${head}"`,
        })
      }
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
    }
  }
  return { files, findings }
}
