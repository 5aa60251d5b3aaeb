import { mkdir, readFile, rm } from 'node:fs/promises'
import path from 'node:path'
import * as z from 'zod'
import { type BlockDevice, type Extent, readInto } from '@/core/block/device'
import { OverlayDevice } from '@/core/block/overlay'
import { readOnly } from '@/core/block/readonly'
import { CoreError, NotSupported } from '@/core/errors'
import { type FileSystem, openFileSystem, recognise } from '@/core/filesystem'
import type { FileKeeper } from '@/core/filesystem/keeper'
import type { ImageFile } from '@/core/image'
import type { FolderFile, ImageFolder } from '@/core/image/folder'
import { readJsonFile } from '@/core/json-file'
import { applyRepair, ChangedSinceRepair, settleRepair } from '@/core/repair/apply'
import { patchesOf } from '@/core/repair/written'
import { repairIn, repairJournal } from './repair-journal'
import { writeWhole } from './whole-file'

/** How far a file that is being made is written, and its length. Behind that it holds whatever the volume held. */
const NotesSchema = z.record(z.string(), z.object({ written: z.number().int().nonnegative() }))

/**
 * The root directory of a volume as a place for images. What is changed of the volume's own tables is journaled in
 * `notes`, so that a change happens whole or not at all; the bytes of a file go straight to its clusters.
 */
export class VolumeFolder implements ImageFolder {
  private reading = false

  constructor(
    private readonly volume: BlockDevice,
    private readonly notes: string,
    private readonly now: () => number = Date.now,
  ) {}

  /** The same for reading: a change that was cut off is taken back in memory alone. */
  static async toRead(volume: BlockDevice, notes: string): Promise<VolumeFolder> {
    const record = await repairIn(changesOf(notes))
    let seen = volume
    if (record?.state === 'writing') {
      const whole = new OverlayDevice(volume)
      const own = await settleRepair(whole, record, { keep: async () => {} }).catch(notOurs)
      if (own) seen = whole
    }
    const folder = new VolumeFolder(readOnly(seen), notes)
    folder.reading = true
    return folder
  }

  async has(name: string): Promise<boolean> {
    return (await (await this.opened()).stat(`/${name}`)) !== undefined
  }

  async create(name: string, mostBytes: () => Promise<number>): Promise<FolderFile> {
    const bytes = await mostBytes()
    const { keeper, freeBytes } = await this.keeper()
    if (keeper.mostFileBytes !== undefined && bytes > keeper.mostFileBytes)
      throw new CoreError(
        `The volume holds no file as large as this image can become. Take a volume with NTFS or exFAT, or a host.`,
      )
    if (bytes > freeBytes) throw new CoreError(`The volume has too little free room for ${name}.`)
    await this.change(`${name} is made`, (volume) => keeper.make(volume, name, bytes, this.now()))
    await this.note(name, 0)
    return this.fileToWrite(name, 0)
  }

  async open(name: string): Promise<FolderFile> {
    const noted = (await this.noted())[name]
    return this.fileToWrite(name, noted?.written ?? (await this.file(name)).size)
  }

  async rename(from: string, to: string, { replacing }: { readonly replacing: boolean }): Promise<void> {
    const { keeper } = await this.keeper()
    const bytes = (await this.noted())[from]?.written ?? (await this.file(from)).size
    await this.change(`${to} is whole`, async (volume) => {
      if (replacing && (await (await opened(volume)).stat(`/${to}`))) await keeper.remove(volume, to, this.now())
      await keeper.settle(volume, from, to, bytes, this.now())
    })
    await this.note(from, undefined)
  }

  async remove(name: string): Promise<void> {
    if (!(await this.has(name))) return
    const { keeper } = await this.keeper()
    await this.change(`${name} is removed`, (volume) => keeper.remove(volume, name, this.now()))
    await this.note(name, undefined)
  }

  async putText(name: string, text: string): Promise<void> {
    const { keeper } = await this.keeper()
    await this.change(`${name} is kept`, async (volume) => {
      if (await (await opened(volume)).stat(`/${name}`)) await keeper.remove(volume, name, this.now())
      await keeper.make(volume, name, new TextEncoder().encode(text), this.now())
    })
  }

  async list() {
    const entries = await (await this.opened()).list('/')
    return entries.filter(({ kind }) => kind === 'file').map(({ name, sizeBytes: bytes }) => ({ name, bytes }))
  }

  async text(name: string, mostBytes: number): Promise<string | undefined> {
    const found = await (await this.opened()).stat(`/${name}`)
    if (found?.kind !== 'file') return undefined
    if (found.sizeBytes > mostBytes) throw new CoreError(`${name} is larger than it can be.`)
    const bytes = new Uint8Array(found.sizeBytes)
    await (await this.file(name)).read(0, bytes)
    return new TextDecoder().decode(bytes)
  }

  async lengths(name: string) {
    const { size } = await this.file(name)
    return { fileBytes: size, hostBytes: size }
  }

  /** A file for reading. Rejects with CoreError where there is none. */
  async file(name: string): Promise<ImageFile> {
    const fileSystem = await this.opened()
    const found = await fileSystem.stat(`/${name}`)
    if (found?.kind !== 'file') throw new CoreError(`There is no file ${name} on the volume.`)
    const places = new Places(await fileSystem.fileExtents!(`/${name}`))
    const size = found.sizeBytes
    if (places.length < size) throw new NotSupported(`${name} is kept in a way that is not read here.`)
    return {
      size,
      read: async (offset, into) => {
        if (offset < 0 || offset + into.length > size) throw new CoreError(`${name} ends at ${size} bytes.`)
        for (const { at, place, length } of places.of(offset, into.length))
          await readInto(this.volume, place, into.subarray(at, at + length))
      },
    }
  }

  private async fileToWrite(name: string, written: number): Promise<FolderFile> {
    const fileSystem = await this.opened()
    const places = new Places(await fileSystem.fileExtents!(`/${name}`))
    return new VolumeFile(this.volume, places, name, written, (bytes) => this.note(name, bytes))
  }

  private async opened(): Promise<FileSystem> {
    await this.settled()
    return opened(this.volume)
  }

  private async keeper(): Promise<{ keeper: FileKeeper; freeBytes: number }> {
    await this.settled()
    const driver = await recognise(this.volume)
    if (!driver?.files) throw new NotSupported('No files are made on a volume of this kind.')
    const fileSystem = await driver.open(this.volume)
    let used = 0
    for await (const { length } of fileSystem.usedExtents()) used += length
    return { keeper: driver.files, freeBytes: fileSystem.totalBytes - used }
  }

  /** Takes back a change of the volume that was cut off. */
  private async settled(): Promise<void> {
    if (this.reading) return
    const record = await repairIn(this.changes)
    if (!record) return
    await settleRepair(this.volume, record, repairJournal(this.changes)).catch(notOurs)
    await rm(this.changes, { force: true })
  }

  private async change(title: string, work: (volume: BlockDevice) => Promise<void>): Promise<void> {
    await this.settled()
    const patches = await patchesOf(this.volume, work)
    const plan = { name: 'files', title: title.slice(0, 200), changes: [], patches }
    await mkdir(path.dirname(this.changes), { recursive: true })
    await applyRepair(this.volume, plan, repairJournal(this.changes))
    await rm(this.changes, { force: true })
  }

  private get changes(): string {
    return changesOf(this.notes)
  }

  private async noted(): Promise<z.infer<typeof NotesSchema>> {
    const text = await readFile(this.notes, 'utf8').catch(() => undefined)
    if (text === undefined) return {}
    return readJsonFile(text, NotesSchema)
  }

  private async note(name: string, written: number | undefined): Promise<void> {
    const notes = new Map(Object.entries(await this.noted()))
    if (written === undefined) notes.delete(name)
    else notes.set(name, { written })
    await writeWhole(this.notes, JSON.stringify(Object.fromEntries(notes)))
  }
}

/** Of a volume that somebody else has written since, nothing is taken back: it is theirs as it is. */
function notOurs(error: unknown): false {
  if (error instanceof ChangedSinceRepair) return false
  throw error
}

const changesOf = (notes: string) => `${notes}.change`

async function opened(volume: BlockDevice): Promise<FileSystem> {
  const fileSystem = await openFileSystem(volume)
  if (!fileSystem?.fileExtents) throw new NotSupported('The files of a volume of this kind are not read here.')
  return fileSystem
}

/** A file whose clusters are there already. What it was not written to yet reads as zeros. */
class VolumeFile implements FolderFile {
  readonly uncache?: () => Promise<void>

  constructor(
    private readonly volume: BlockDevice,
    private readonly places: Places,
    private readonly name: string,
    /** Its length now; all of it is written. */
    public size: number,
    private readonly note: (written: number) => Promise<void>,
  ) {
    if (volume.uncache) this.uncache = () => volume.uncache!()
  }

  async read(offset: number, into: Uint8Array): Promise<void> {
    const inFile = Math.max(0, Math.min(into.length, this.size - offset))
    for (const { at, place, length } of this.places.of(offset, inFile))
      await readInto(this.volume, place, into.subarray(at, at + length))
    into.fill(0, inFile)
  }

  async write(offset: number, from: Uint8Array): Promise<void> {
    if (offset > this.size) await this.fill(this.size, offset)
    await this.put(offset, from)
    this.size = Math.max(this.size, offset + from.length)
  }

  async truncate(length: number): Promise<void> {
    if (length > this.size) await this.fill(this.size, length)
    this.size = length
  }

  async flush(): Promise<void> {
    await this.volume.flush()
    await this.note(this.size)
  }

  async close(): Promise<void> {}

  private async fill(from: number, to: number): Promise<void> {
    const zeros = new Uint8Array(Math.min(ZEROS_BYTES, to - from))
    for (let at = from; at < to; at += zeros.length)
      await this.put(at, zeros.subarray(0, Math.min(zeros.length, to - at)))
    this.size = to
  }

  /** Whole sectors go as they are; of the others what stands around is kept. */
  private async put(offset: number, bytes: Uint8Array): Promise<void> {
    if (offset + bytes.length > this.places.length)
      throw new CoreError(`${this.name} became larger than the room that was set aside for it.`)
    const sector = this.volume.logicalSectorSize
    for (const { at, place, length } of this.places.of(offset, bytes.length)) {
      const part = bytes.subarray(at, at + length)
      const first = Math.floor(place / sector) * sector
      const end = Math.ceil((place + length) / sector) * sector
      if (first === place && end === place + length) await this.volume.write(place, part)
      else {
        const around = new Uint8Array(end - first)
        await this.volume.read(first, around)
        around.set(part, place - first)
        await this.volume.write(first, around)
      }
    }
  }
}

const ZEROS_BYTES = 1024 * 1024

/** Where the bytes of a file lie in its volume. */
class Places {
  private readonly runs: (Extent & { readonly at: number })[] = []
  readonly length: number

  constructor(extents: readonly Extent[]) {
    let at = 0
    for (const { offset, length } of extents) {
      this.runs.push({ offset, length, at })
      at += length
    }
    this.length = at
  }

  /** A range of the file piece by piece: where it is in the range, and in the volume. */
  *of(offset: number, length: number) {
    const end = offset + length
    let i = this.indexAt(offset)
    for (let from = offset; from < end; i++) {
      const run = this.runs[i]
      if (!run) return
      const to = Math.min(end, run.at + run.length)
      yield { at: from - offset, place: run.offset + from - run.at, length: to - from }
      from = to
    }
  }

  private indexAt(offset: number): number {
    let low = 0
    let high = this.runs.length - 1
    while (low < high) {
      const middle = Math.ceil((low + high) / 2)
      if (this.runs[middle].at <= offset) low = middle
      else high = middle - 1
    }
    return low
  }
}
