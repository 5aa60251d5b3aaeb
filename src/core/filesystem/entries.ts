import { NoSuchFile } from './errors'
import { splitPath } from './path'
import type { DirectoryEntry, FileSystem } from './port'

/** What both a FAT and an NTFS directory tell of a name. */
interface Named {
  readonly name: string
  readonly isDirectory: boolean
  readonly sizeBytes: number
}

/** An entry of the port from what a directory tells. */
export function entryOf({ name, isDirectory, sizeBytes }: Named, path: string): DirectoryEntry {
  return { name, path, kind: isDirectory ? 'directory' : 'file', sizeBytes: isDirectory ? 0 : sizeBytes }
}

/** The entries of a directory with their whole paths. */
export function entriesBelow(directory: string, names: readonly Named[]): DirectoryEntry[] {
  const base = splitPath(directory)
    .map((part) => `/${part}`)
    .join('')
  return names.map((named) => entryOf(named, `${base}/${named.name}`))
}

/** What `find` gives for a path, or undefined where it finds nothing. */
export async function statBy(
  find: (path: string) => Promise<Named>,
  path: string,
): Promise<DirectoryEntry | undefined> {
  try {
    return entryOf(await find(path), path)
  } catch (error) {
    if (error instanceof NoSuchFile) return undefined
    throw error
  }
}

/** A kind's `readFile` by its `openFile`. */
export function readFileBy(open: FileSystem['openFile']): FileSystem['readFile'] {
  return async (path, offset = 0, length = Number.MAX_SAFE_INTEGER) => (await open(path)).read(offset, length)
}
