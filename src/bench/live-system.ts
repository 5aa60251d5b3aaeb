import type { BlockDevice, Extent } from '@/core/block/device'
import type { LiveDevice } from '@/core/block/live'
import { SliceDevice } from '@/core/block/slice'
import { openFileSystem } from '@/core/filesystem'
import { seeded } from './random'

/** A drive in a computer whose own system runs: whoever copies it only reads, the system goes on writing. */
export class LiveDrive implements LiveDevice {
  readonly size: number
  readonly logicalSectorSize: 512 | 4096
  readonly physicalSectorSize: number
  readonly mapped?: (offset: number, length: number) => Promise<readonly Extent[]>
  private readonly watchers = new Set<(offset: number, length: number) => Promise<void>>()

  constructor(private readonly drive: BlockDevice) {
    this.size = drive.size
    this.logicalSectorSize = drive.logicalSectorSize
    this.physicalSectorSize = drive.physicalSectorSize
    if (drive.mapped) this.mapped = (offset, length) => drive.mapped!(offset, length)
  }

  watch(before: (offset: number, length: number) => Promise<void>): () => void {
    this.watchers.add(before)
    return () => this.watchers.delete(before)
  }

  read(offset: number, into: Uint8Array): Promise<void> {
    return this.drive.read(offset, into)
  }

  async write(offset: number, from: Uint8Array): Promise<void> {
    for (const watcher of this.watchers) await watcher(offset, from.length)
    await this.drive.write(offset, from)
  }

  flush(): Promise<void> {
    return this.drive.flush()
  }
}

/** One writer of a running system and the file that it writes to. */
interface Writer {
  readonly name: string
  readonly file: string
  readonly extents: readonly Extent[]
  /** Seconds between two writes. */
  readonly every: number
  due: number
  count: number
}

export interface LiveSystemOptions {
  /** Where its system volume lies on the drive, in bytes. */
  readonly volume: Extent
  /** Names of the programs that run. */
  readonly programs: readonly string[]
  readonly seed: number
}

const FEWEST_BYTES = 64 * 1024
const MOST_LOOKED_AT = 5000

/**
 * A system that runs from a drive: it writes to its page file all the time, or to a document where it has none there,
 * and each program to a document of its own, in place, so that the volume stays whole and only contents change.
 */
export class LiveSystem {
  private seconds = 0
  private readonly random: () => number

  private constructor(
    private readonly drive: LiveDrive,
    private readonly writers: readonly Writer[],
    seed: number,
  ) {
    this.random = seeded(seed)
  }

  static async start(drive: LiveDrive, { volume, programs, seed }: LiveSystemOptions): Promise<LiveSystem> {
    const slice = new SliceDevice(drive, volume.offset, volume.length)
    const fileSystem = await openFileSystem(slice)
    const writers: Writer[] = []
    const add = async (name: string, file: string, every: number, due = every) => {
      const extents = (await fileSystem!.fileExtents!(file))
        .filter((e) => e.length >= 4096)
        .map((e) => ({ offset: e.offset + volume.offset, length: e.length }))
      if (extents.length > 0) writers.push({ name, file, extents, every, due, count: 0 })
    }
    if (fileSystem?.fileExtents) {
      const page = await fileSystem.stat('/pagefile.sys').catch(() => undefined)
      if (page) await add('the system', page.path, 2)
      const documents = await documentsOf(fileSystem)
      // On a drive beside the system's, services that nobody closes write all the same.
      if (!page && documents.length > 0) await add('a service', documents[0], 4, 0)
      for (const [i, name] of programs.entries()) {
        const file = documents[(i * 7 + 3) % Math.max(1, documents.length)]
        if (file) await add(name, file, 5)
      }
    }
    return new LiveSystem(drive, writers, seed)
  }

  /** The files that it writes to. */
  get files(): readonly string[] {
    return this.writers.map((w) => w.file)
  }

  /** Lets so many seconds pass in the running system. */
  async pass(seconds: number): Promise<void> {
    this.seconds += seconds
    for (const writer of this.writers) {
      while (writer.due <= this.seconds) {
        await this.writeOnce(writer)
        writer.due += writer.every
      }
    }
  }

  private async writeOnce(writer: Writer): Promise<void> {
    const extent = writer.extents[Math.floor(this.random() * writer.extents.length)]
    const at = extent.offset + Math.floor(this.random() * Math.floor(extent.length / 4096)) * 4096
    const text = `${writer.name}, entry ${++writer.count}\r\n`
    await this.drive.write(at, new TextEncoder().encode(text.repeat(Math.ceil(4096 / text.length))).subarray(0, 4096))
  }
}

/** Files of people, and not of the system, that are large enough to be written in place. */
async function documentsOf(fileSystem: {
  list(path: string): Promise<readonly { path: string; kind: string; sizeBytes: number }[]>
}): Promise<string[]> {
  const found: string[] = []
  const folders = ['/']
  for (let looked = 0; folders.length > 0 && looked < MOST_LOOKED_AT;) {
    for (const entry of await fileSystem.list(folders.shift()!)) {
      looked++
      if (/^\/(Windows|Program Files|\$|System Volume)/i.test(entry.path)) continue
      if (entry.kind === 'directory') folders.push(entry.path)
      else if (entry.kind === 'file' && entry.sizeBytes >= FEWEST_BYTES && !/\.sys$/i.test(entry.path))
        found.push(entry.path)
    }
  }
  return found
}
