import { CoreError } from '../errors'
import type { DirectoryEntry, FileSystem } from './port'

/** Folders that name each other in a circle, as only damage makes them, end somewhere. */
const MOST_ENTRIES = 2_000_000

/**
 * Everything below a folder, a folder before what is in it. One that cannot be read is told to `unread` and left out;
 * so is what comes after `most` entries, with the folder at hand.
 */
export async function* walkFolder(
  fileSystem: Pick<FileSystem, 'list'>,
  from: string,
  unread: (folder: string, error?: CoreError) => void,
  most = MOST_ENTRIES,
): AsyncGenerator<DirectoryEntry> {
  let count = 0
  const folders = [from]
  while (folders.length > 0) {
    const folder = folders.pop()!
    let entries: readonly DirectoryEntry[]
    try {
      entries = await fileSystem.list(folder)
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
      unread(folder, error)
      continue
    }
    for (const entry of entries) {
      if (++count > most) return unread(folder)
      yield entry
      if (entry.kind === 'directory') folders.push(entry.path)
    }
  }
}
