import { CoreError } from '@/core/errors'
import type { DirectoryEntry } from '@/core/filesystem'
import { walkFolder } from '@/core/filesystem/walk'
import { readScheme } from '@/core/scheme'
import { openPartition } from '@/core/survey/open-partition'
import type { VolumeOrder } from './look'
import type { TaskControl } from '.'
import { type Subject, withSubject } from './subject'

/** A file or folder that a search met. */
export interface FoundFile {
  readonly partition: number
  readonly path: string
  readonly kind: DirectoryEntry['kind']
  readonly sizeBytes: number
}

export interface SearchOrder {
  readonly subject: Subject
  /** The volume; all of the disk without. */
  readonly partition?: number
  /** Every one of them stands in the name, in any case. */
  readonly words: readonly string[]
}

export interface SearchEnd {
  readonly looked: number
  readonly found: number
  /** There are more than are told. */
  readonly more: boolean
  /** Folders and volumes that could not be read, with the sentence that says why. */
  readonly unread: readonly { readonly partition: number; readonly path: string; readonly why: string }[]
}

export const MOST_FOUND = 1000
const MOST_UNREAD = 100
const TELL_EVERY_MS = 200

/** Looks for files and folders by name, and tells what it meets as it goes. */
export async function searchFiles(
  { subject, partition, words }: SearchOrder,
  control: TaskControl,
): Promise<SearchEnd> {
  return withSubject(subject, async (device) => {
    const wanted = words.map((word) => word.toLowerCase())
    const reading = partition === undefined ? await readScheme(device) : undefined
    const numbers = partition !== undefined ? [partition] : (reading?.partitions.map((p) => p.number) ?? [0])
    const unread: SearchEnd['unread'][number][] = []
    let [looked, found, more] = [0, 0, false]
    let fresh: FoundFile[] = []
    let toldAt = 0
    const tell = (title: string) => {
      control.progress({ done: looked, total: 0, title, found: fresh })
      fresh = []
      toldAt = Date.now()
    }
    for (const number of numbers) {
      const missed = (path: string, error?: CoreError) => {
        const why = error?.message ?? 'There is too much below it to look through.'
        if (unread.length < MOST_UNREAD) unread.push({ partition: number, path, why })
      }
      try {
        const volume = await openPartition(device, number)
        if (volume.depth !== 'files') continue
        for await (const { name, path, kind, sizeBytes } of walkFolder(volume, '/', missed)) {
          control.signal.throwIfAborted()
          looked++
          const text = name.toLowerCase()
          if (wanted.every((word) => text.includes(word))) {
            if (found < MOST_FOUND) {
              found++
              fresh.push({ partition: number, path, kind, sizeBytes })
            } else more = true
          }
          if (Date.now() - toldAt > TELL_EVERY_MS) tell(path)
        }
      } catch (error) {
        if (!(error instanceof CoreError)) throw error
        // Of a whole disk, what is no volume is passed by.
        if (partition !== undefined) throw error
      }
    }
    tell('')
    return { looked, found, more, unread }
  })
}

export interface Tree {
  readonly entries: readonly DirectoryEntry[]
  readonly unread: readonly { readonly path: string; readonly why: string }[]
}

/** More than this is not taken at once. */
const MOST_IN_TREE = 300_000

/** A folder with all that is below it. Rejects with CoreError where the folder itself cannot be read. */
export async function listTree({ subject, partition, path }: VolumeOrder, { signal }: TaskControl): Promise<Tree> {
  return withSubject(subject, async (device) => {
    const volume = await openPartition(device, partition)
    await volume.list(path)
    const entries: DirectoryEntry[] = []
    const unread: Tree['unread'][number][] = []
    const missed = (folder: string, error?: CoreError) =>
      unread.push({ path: folder, why: error?.message ?? 'There is more in it than can be taken at once.' })
    for await (const entry of walkFolder(volume, path, missed, MOST_IN_TREE)) {
      signal.throwIfAborted()
      entries.push(entry)
    }
    return { entries, unread }
  })
}
