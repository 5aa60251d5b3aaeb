import type { FileSystem, OpenFile } from './port'

/**
 * A file whose parts are asked for one after the other. Its path is followed once, where the kind of file system can
 * keep what it led to. Rejects with NoSuchFile.
 */
export async function openFile(fileSystem: FileSystem, path: string): Promise<OpenFile> {
  return (await fileSystem.openFile?.(path)) ?? { read: (offset, length) => fileSystem.readFile(path, offset, length) }
}
