import { mkdir } from 'node:fs/promises'
import { type FolderLock, lockFolder } from '@/host/folder-lock'
import { dataFolder } from './paths'
import { singleton } from './singleton'

/**
 * Takes the data folder for this process, once, until it ends. Rejects with FolderInUse while another process has it:
 * two servers on one folder would both write its drives.
 */
export function holdDataFolder(): Promise<FolderLock> {
  return singleton('data-folder', async () => {
    await mkdir(dataFolder(), { recursive: true })
    return lockFolder(dataFolder(), process.env.IMBARCO_ADDRESS ?? '')
  })
}
