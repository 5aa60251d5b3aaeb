import { open } from 'node:fs/promises'
import path from 'node:path'

/**
 * Makes the name of a file survive a power cut: that a file is stored does not mean that its folder names it. Hosts
 * whose folders cannot be stored by themselves do so on their own.
 */
export async function syncFolderOf(file: string): Promise<void> {
  const handle = await open(path.dirname(path.resolve(file)), 'r').catch(() => undefined)
  if (!handle) return
  try {
    await handle.sync()
  } catch (error) {
    const { code } = error as NodeJS.ErrnoException
    if (code !== 'EINVAL' && code !== 'EPERM' && code !== 'EISDIR' && code !== 'ENOTSUP') throw error
  } finally {
    await handle.close()
  }
}
