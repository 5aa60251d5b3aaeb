import { mkdir, open, readFile, rename } from 'node:fs/promises'
import path from 'node:path'
import { syncFolderOf } from './sync-folder'

/**
 * Writes a file that is whole at any instant: the new text takes the old one's place once it is stored. `mode`: who may
 * read it.
 */
export async function writeWhole(file: string, text: string, mode = 0o666): Promise<void> {
  await mkdir(path.dirname(path.resolve(file)), { recursive: true })
  const handle = await open(`${file}.new`, 'w', mode)
  try {
    await handle.writeFile(text)
    await handle.sync()
  } finally {
    await handle.close()
  }
  await rename(`${file}.new`, file)
  await syncFolderOf(file)
}

/** What a file of JSON holds, undefined where that is no JSON; absent where there is no such file. */
export async function jsonIn(file: string): Promise<{ readonly value: unknown } | undefined> {
  const text = await readFile(file, 'utf8').catch((error: NodeJS.ErrnoException) => {
    if (error.code === 'ENOENT') return undefined
    throw error
  })
  if (text === undefined) return undefined
  try {
    return { value: JSON.parse(text) }
  } catch {
    return { value: undefined }
  }
}
