import { mkdir, open, rename } from 'node:fs/promises'
import path from 'node:path'
import { syncFolderOf } from './sync-folder'

/** Writes a file that is whole at any instant: the new text takes the old one's place once it is stored. */
export async function writeWhole(file: string, text: string): Promise<void> {
  await mkdir(path.dirname(path.resolve(file)), { recursive: true })
  const handle = await open(`${file}.new`, 'w')
  try {
    await handle.writeFile(text)
    await handle.sync()
  } finally {
    await handle.close()
  }
  await rename(`${file}.new`, file)
  await syncFolderOf(file)
}
