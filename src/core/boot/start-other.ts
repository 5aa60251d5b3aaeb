import { formatSize, groupDigits } from '../bytes/size'
import { orUndefined } from '../errors'
import { type FileSystem, openFileSystem } from '../filesystem'
import type { TablePartition } from '../scheme/types'
import { BootFailure } from './chain'
import { type Candidate, expectSystem, sizeOf, sliceOf, type Start, type Started } from './start'

// Starts whose loader is not followed in all it does: a Linux root that is named by its UUID is looked up, and a
// volume that names its own loader is looked at by its header.

const MAX_TEXT_BYTES = 1024 * 1024
/** UUID of an ext, XFS or other Linux volume; shorter serials of FAT stand in these files too. */
const UUID = '[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}'

/** What goes on behind a loader on the EFI system partition that is not one of the usual system's. */
export async function followOther(
  start: Start,
  candidate: Candidate,
  esp: FileSystem,
  loader: string,
): Promise<Started> {
  const { chain } = start
  const named = await rootNamed(esp, loader)
  if (!named) {
    expectSystem(start, undefined, `${loader} is not a loader whose settings are known here`)
    chain.restUnproved(
      'not followed further',
      `${loader} is not a loader whose settings are known here`,
      'Up to its loader everything holds; what that does next is its own.',
    )
    return { driveId: candidate.drive.driveId }
  }
  chain.pass(`root by UUID ${named.uuid}`, `${named.path}: ${named.line}`)
  const root = await volumeOf(start, named.uuid)
  if (!root) {
    throw new BootFailure(
      'no volume with that UUID',
      `Expected ${named.uuid}; looked at every partition of ${start.candidates.map((c) => c.drive.name).join(' and ')}`,
      'The loader’s settings name the root volume by its UUID, and nothing here answers to that.',
    )
  }
  const { partition, volume, home } = root
  expectSystem(start, partition.number, `${named.path}: ${named.line}`)
  const where = `Partition ${partition.number} of ${home.drive.name}, from sector ${groupDigits(partition.firstLba)}, ${volume.state}`
  const words = `${volume.label || 'root'}, ${volume.name}, ${formatSize(sizeOf(partition, home.drive.device))}`
  const mounts = await textOf(volume, '/etc/fstab')
  const mounted = mounts?.split('\n').find((l) => /^\s*[^#\s]\S*\s+\/\s/.test(l))
  const uuid = mounted && new RegExp(UUID, 'i').exec(mounted)?.[0].toLowerCase()
  if (uuid && uuid !== named.uuid) {
    throw new BootFailure(
      'its mount table names another root',
      `${where}; /etc/fstab: ${mounted.trim()}; the loader named ${named.uuid}`,
      'The system begins on this volume and then waits for a root that is not it.',
    )
  }
  chain.pass(words, `${where}; ${mounted ? `/etc/fstab: ${mounted.trim()}` : 'no line for / in /etc/fstab'}`)
  chain.restUnproved(
    'not followed further',
    'What the kernel brings along is in its first file system',
    'Which drivers it starts with is not read from there.',
  )
  const { driveId } = candidate.drive
  const { driveId: systemDriveId } = home.drive
  return { driveId, systemDriveId, systemPartitionGuid: partition.guid, systemPartition: partition.number }
}

/** A volume that names its own loader, where the firmware has nothing else; undefined where there is none. */
export async function followStartVolume(start: Start, tried: readonly string[]): Promise<Started | undefined> {
  const { chain, candidates } = start
  for (const candidate of candidates) {
    for (const partition of candidate.reading.partitions) {
      const volume = await readable(candidate, partition)
      const loader = await volume?.startLoader?.().catch(orUndefined)
      if (!volume || !loader || (start.system !== undefined && start.system !== partition.number)) continue
      const { drive } = candidate
      chain.unproved(
        `${volume.name} is started from by firmware that reads it`,
        [...tried, `${drive.name}, ${drive.slot}`].join('; '),
        `Only firmware that reads ${volume.name} itself goes on from here, and whether this one does is not known.`,
      )
      const table = candidate.reading.scheme === 'gpt' ? 'GPT' : 'MBR'
      chain.pass(table, `${candidate.reading.partitions.length} partitions`)
      chain.pass(
        `${volume.label || 'no name'}, ${volume.name}, ${formatSize(sizeOf(partition, drive.device))}, ${volume.state}`,
        `Partition ${partition.number}, from sector ${groupDigits(partition.firstLba)}; its header names a loader`,
      )
      if (loader.sizeBytes === 0)
        throw new BootFailure(
          'the loader is missing',
          `The header names ${loader.what}`,
          'There is nothing there to start.',
        )
      chain.pass(`${groupDigits(loader.sizeBytes)} bytes`, `The header names ${loader.path ?? loader.what}`)
      chain.restUnproved(
        'not followed further',
        'The loader’s own settings are not read',
        'Up to its loader everything holds; what that does next is its own.',
      )
      return { driveId: drive.driveId, systemPartitionGuid: partition.guid, systemPartition: partition.number }
    }
  }
  return undefined
}

/** The line of a Linux loader's settings that names the root volume. */
export async function rootNamed(esp: FileSystem, loader: string) {
  for (const path of await settingsFiles(esp, loader)) {
    const text = await textOf(esp, path)
    for (const line of text?.split('\n') ?? []) {
      if (/^\s*#/.test(line) || !/root|fs_uuid|fs-uuid/i.test(line)) continue
      const uuid = new RegExp(UUID, 'i').exec(line)?.[0].toLowerCase()
      if (uuid) return { uuid, path, line: line.trim().slice(0, 200) }
    }
  }
  return undefined
}

/** Where Linux loaders keep their settings on an EFI system partition: beside them, or as entries of their own. */
async function settingsFiles(esp: FileSystem, loader: string): Promise<string[]> {
  const files = [`${loader.slice(0, loader.lastIndexOf('/'))}/grub.cfg`, '/grub/grub.cfg', '/boot/grub/grub.cfg']
  for (const folder of ['/loader/entries', '/EFI']) {
    if ((await esp.stat(folder))?.kind !== 'directory') continue
    for (const entry of (await esp.list(folder)).slice(0, 64)) {
      if (entry.kind === 'file' && entry.name.endsWith('.conf')) files.push(entry.path)
      if (entry.kind === 'directory') files.push(`${entry.path}/grub.cfg`)
    }
  }
  return [...new Set(files)]
}

async function volumeOf({ candidates }: Start, uuid: string) {
  for (const home of candidates) {
    for (const partition of home.reading.partitions) {
      const volume = await readable(home, partition)
      if (volume?.serial.toLowerCase() === uuid) return { home, partition, volume }
    }
  }
  return undefined
}

async function readable({ drive }: Candidate, partition: TablePartition): Promise<FileSystem | undefined> {
  if (partition.mbr?.kind === 'extended') return undefined
  return openFileSystem(sliceOf(drive.device, partition)).catch(orUndefined)
}

async function textOf(volume: FileSystem, path: string): Promise<string | undefined> {
  if (volume.depth !== 'files') return undefined
  const file = await volume.stat(path)
  if (file?.kind !== 'file' || file.sizeBytes > MAX_TEXT_BYTES) return undefined
  return new TextDecoder().decode(await volume.readFile(path))
}
