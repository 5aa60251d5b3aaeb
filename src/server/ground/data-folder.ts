import { mkdir, rm, stat, writeFile } from 'node:fs/promises'
import path from 'node:path'
import { CoreError } from '@/core/errors'
import { type FolderLock, lockFolder } from '@/host/folder-lock'
import { dataFolder } from './paths'
import { singleton } from './singleton'

/** The data folder, or what lies in it, cannot be used; the message says why and what to do. */
export class DataFolderUnusable extends CoreError {
  override readonly name = 'DataFolderUnusable'
}

/**
 * Takes the data folder for this process, once, until it ends. Rejects with FolderInUse while another process has it:
 * two servers on one folder would both write its drives; with DataFolderUnusable where it cannot be written to.
 */
export function holdDataFolder(): Promise<FolderLock> {
  return singleton('data-folder', async () => {
    await checkDataFolder()
    return lockFolder(dataFolder(), process.env.IMBARCO_ADDRESS ?? '')
  })
}

async function checkDataFolder(): Promise<void> {
  const folder = dataFolder()
  const found = await stat(folder).catch(() => undefined)
  if (found && !found.isDirectory())
    throw new DataFolderUnusable(
      `${folder} is a file, and the data folder is to be a folder. Move the file away, or name another folder in IMBARCO_DATA.`,
    )
  const probe = path.join(folder, '.write-check')
  try {
    await mkdir(folder, { recursive: true })
    await writeFile(probe, 'x')
    await rm(probe)
  } catch (error) {
    throw new DataFolderUnusable(
      `${whyNotWritable(error, folder)} Name another folder in IMBARCO_DATA, or change this one.`,
    )
  }
}

function whyNotWritable(error: unknown, folder: string): string {
  const { code, message } = error as NodeJS.ErrnoException
  switch (code) {
    case 'ENOSPC':
    case 'EDQUOT':
      return `The disk that holds the data folder ${folder} is full, so nothing can be stored.`
    case 'EACCES':
    case 'EPERM':
    case 'EROFS':
      return `The data folder ${folder} cannot be written to by this user.`
    case 'ENOTDIR':
    case 'EEXIST':
      return `A part of the path ${folder} is a file, so there can be no data folder.`
    default:
      return `The data folder ${folder} cannot be used: ${message}.`
  }
}
