import { execFileSync, spawnSync } from 'node:child_process'
import { readdirSync, readFileSync } from 'node:fs'
import path from 'node:path'
import { toHex } from '@/core/digest'
import { blake3 } from '@/host/strong-digest'

// Readers that share no code with Imbarco: 7zip for files, gdisk for tables, dosfstools for FAT.

const run = (program: string, args: string[]) =>
  execFileSync(program, args, { encoding: 'utf8', maxBuffer: 64 * 1024 * 1024 })

export interface Cut {
  readonly first: number
  readonly last: number
}

/** Partitions by number, as gdisk reads them from the drive's file. */
export function gdiskPartitions(file: string): Map<number, Cut & { guid: string; type: string }> {
  const numbers = [...run('/usr/sbin/sgdisk', ['-p', file]).matchAll(/^\s+(\d+)\s+\d+\s+\d+/gm)].map((m) =>
    Number(m[1]),
  )
  return new Map(
    numbers.map((number) => {
      const text = run('/usr/sbin/sgdisk', ['-i', String(number), file])
      const value = (pattern: RegExp) => pattern.exec(text)![1]
      return [
        number,
        {
          first: Number(value(/First sector: (\d+)/)),
          last: Number(value(/Last sector: (\d+)/)),
          guid: value(/unique GUID: ([0-9A-F-]+)/).toLowerCase(),
          type: value(/code: ([0-9A-F-]+)/).toLowerCase(),
        },
      ]
    }),
  )
}

/** What gdisk finds wrong with the tables, its warnings on reading them included; empty when nothing. */
export function gdiskProblems(file: string): string {
  const { stdout, stderr } = spawnSync('/usr/sbin/sgdisk', ['-v', file], { encoding: 'utf8' })
  const text = stdout + stderr
  const sound = /No problems found/.test(stdout) && !/caution|warning|invalid|corrupt|damaged|mismatch/i.test(text)
  return sound ? '' : text || 'gdisk said nothing'
}

export function diskGuid(file: string): string {
  return /Disk identifier \(GUID\): ([0-9A-F-]+)/.exec(run('/usr/sbin/sgdisk', ['-p', file]))![1].toLowerCase()
}

/** Puts a partition into a file of its own, which takes only the room of its data. */
export function cutPartition(drive: string, { first, last }: Cut, out: string): string {
  run('python3', [
    path.join('tests', 'support', 'cut_partition.py'),
    drive,
    out,
    String(first * 512),
    String((last - first + 1) * 512),
  ])
  return out
}

/** Digest of everything that is stored of a drive, with its places. */
export function digestOfData(drive: string): string {
  return run('python3', [path.join('tests', 'support', 'digest_of_data.py'), drive]).trim()
}

/** Paths and sizes of all files of a volume, by 7zip. */
export function listFiles(volume: string): Map<string, number> {
  const text = run('7zz', ['l', '-slt', volume])
  const files = new Map<string, number>()
  for (const block of text.split('\n\n')) {
    const value = (name: string) => new RegExp(`^${name} = (.*)$`, 'm').exec(block)?.[1]
    const name = value('Path')
    if (
      !name ||
      value('Folder') === '+' ||
      value('Alternate Stream') === '+' ||
      value('Type') ||
      name.startsWith('[SYSTEM]')
    )
      continue
    files.set(name, Number(value('Size')))
  }
  return files
}

/** Digest of bytes, as those of files that another reader unpacks. */
export const sumOf = (bytes: Uint8Array): string => toHex(blake3(bytes))

/** Digests of the files below `folder` of a volume, extracted by 7zip into `out`. */
export function extractDigests(volume: string, folder: string, out: string): Map<string, string> {
  run('7zz', ['x', `-o${out}`, volume, '-y', folder])
  const digests = new Map<string, string>()
  const walk = (at: string) => {
    for (const entry of readdirSync(path.join(out, at), { withFileTypes: true })) {
      const file = path.join(at, entry.name)
      if (entry.isDirectory()) walk(file)
      else digests.set(file, sumOf(readFileSync(path.join(out, file))))
    }
  }
  walk('')
  return digests
}

/** What dosfstools says of a FAT volume without repairing; throws when it finds a fault. */
export function checkFat(volume: string): string {
  return run('/usr/sbin/fsck.fat', ['-n', volume])
}

/** What 7zip takes for the size of the file system itself, in bytes. */
export function volumeSize(volume: string): number {
  return Number(/^Physical Size = (\d+)$/m.exec(run('7zz', ['l', '-slt', volume]))![1])
}

/** Partitions of an MBR as sfdisk reads them, containers and logical ones included. */
export function sfdiskPartitions(file: string): { start: number; size: number; type: string }[] {
  const { partitiontable } = JSON.parse(run('/usr/sbin/sfdisk', ['-J', file]))
  return partitiontable.partitions.map((p: { start: number; size: number; type: string }) => ({
    start: p.start,
    size: p.size,
    type: p.type,
  }))
}
