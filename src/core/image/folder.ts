import type { ImageStore } from './store'

/** A file of a folder, opened to be written. */
export interface FolderFile extends ImageStore {
  close(): Promise<void>
}

/** A place that keeps images by their names: a folder of a host, or one in a volume of a drive. */
export interface ImageFolder {
  has(name: string): Promise<boolean>
  /** Makes a file; `mostBytes` tells what it will need at most. Rejects with CoreError when the name is taken or there is no room. */
  create(name: string, mostBytes: () => Promise<number>): Promise<FolderFile>
  /** Opens one that is there, to go on writing it. Rejects with CoreError. */
  open(name: string): Promise<FolderFile>
  /** Gives a whole file its name. Rejects when another has that, unless it is to be replaced. */
  rename(from: string, to: string, options: { readonly replacing: boolean }): Promise<void>
  /** Removes a file, if there is one of that name. */
  remove(name: string): Promise<void>
  /** Writes a small file that is whole at any instant, in place of what had its name. */
  putText(name: string, text: string): Promise<void>
  /** Its files, by name and length in bytes; folders are left out. */
  list(): Promise<readonly { readonly name: string; readonly bytes: number }[]>
  /** The text of a small file; undefined where there is none. Rejects with CoreError for one of more than `mostBytes`. */
  text(name: string, mostBytes: number): Promise<string | undefined>
  /** Length of a file, and what of it its disk stores. */
  lengths(name: string): Promise<{ readonly fileBytes: number; readonly hostBytes: number }>
}
