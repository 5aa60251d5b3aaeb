import type { BlockDevice, Extent } from '../block/device'
import { unionExtents } from '../block/extents'
import { SliceDevice } from '../block/slice'
import { orUndefined } from '../errors'
import { type FileSystem, openFileSystem } from '../filesystem'
import { walkFolder } from '../filesystem/walk'
import { readScheme } from '../scheme'
import { IDLE_PLACES, sleepsOn } from '../survey/idle-files'
import type { IdleKind } from './idle-kinds'

/** A file whose content is left out of a copy. */
export interface LeftOutFile {
  readonly path: string
  readonly bytes: number
}

export interface LeftOut {
  readonly files: LeftOutFile[]
  /** Their content, in whole sectors, in order. */
  readonly extents: Extent[]
}

/** Folders of temporary files, and those of which each folder in it has one. */
const TEMPORARY = ['/Windows/Temp', '/Temp', '/tmp', '/var/tmp', '/private/var/tmp']
const TEMPORARY_BELOW = [
  { folder: '/Users', rest: '/AppData/Local/Temp' },
  { folder: '/Documents and Settings', rest: '/Local Settings/Temp' },
]

/** The content of files of a volume that nobody misses; none where a system sleeps, which finds in them what it had open. */
export async function idleOn(fileSystem: FileSystem, kinds: readonly IdleKind[]): Promise<LeftOut> {
  const files: LeftOutFile[] = []
  const extents: Extent[] = []
  if (kinds.length === 0 || !fileSystem.fileExtents || (await sleepsOn(fileSystem))) return { files, extents }
  for await (const path of pathsOf(fileSystem, kinds)) {
    const entry = await fileSystem.stat(path).catch(orUndefined)
    if (entry?.kind !== 'file' || entry.sizeBytes === 0) continue
    const runs = await fileSystem.fileExtents(path).catch(orUndefined)
    if (!runs || runs.length === 0) continue
    files.push({ path, bytes: entry.sizeBytes })
    extents.push(...runs)
  }
  return { files, extents: unionExtents(extents, []) }
}

/** The same of all volumes of a drive, with places on the drive. */
export async function idleOnDrive(device: BlockDevice, kinds: readonly IdleKind[]): Promise<LeftOut> {
  const files: LeftOutFile[] = []
  const extents: Extent[] = []
  const reading = await readScheme(device).catch(orUndefined)
  const sector = device.logicalSectorSize
  const places = reading?.partitions
    .filter((p) => p.mbr?.kind !== 'extended')
    .map((p) => ({ offset: p.firstLba * sector, length: (p.lastLba - p.firstLba + 1) * sector }))
    .filter(({ offset, length }) => length > 0 && offset + length <= device.size)
  for (const { offset, length } of places ?? [{ offset: 0, length: device.size }]) {
    const volume = await openFileSystem(new SliceDevice(device, offset, length)).catch(orUndefined)
    // Of a volume whose records cannot be relied on nothing is left out.
    if (!volume || volume.state === 'damaged' || volume.mapUnsure !== undefined) continue
    const found = await idleOn(volume, kinds)
    files.push(...found.files)
    extents.push(...found.extents.map((run) => ({ offset: offset + run.offset, length: run.length })))
  }
  return { files, extents: unionExtents(extents, []) }
}

async function* pathsOf(fileSystem: FileSystem, kinds: readonly IdleKind[]): AsyncGenerator<string> {
  for (const { path, kind } of IDLE_PLACES) {
    if (kinds.includes(kind === 'hibernation' ? 'hibernation' : 'page')) yield path
  }
  if (!kinds.includes('temporary')) return
  const folders = [...TEMPORARY]
  for (const { folder, rest } of TEMPORARY_BELOW) {
    const entries = (await fileSystem.list(folder).catch(orUndefined)) ?? []
    folders.push(...entries.filter((e) => e.kind === 'directory').map((e) => `${e.path}${rest}`))
  }
  for (const folder of folders) {
    if ((await fileSystem.stat(folder).catch(orUndefined))?.kind !== 'directory') continue
    for await (const entry of walkFolder(fileSystem, folder, () => {})) if (entry.kind === 'file') yield entry.path
  }
}
