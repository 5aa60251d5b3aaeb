// Volumes of very many small files: how time and memory grow with their number, a process of its own for each step.
import { execFileSync } from 'node:child_process'
import { mkdirSync, rmSync, truncateSync, writeFileSync } from 'node:fs'
import path from 'node:path'
import { GIB, MIB } from '@/core/bytes/size'
import type { Line } from './bench-images'

const COUNTS = [10_000, 100_000, 1_000_000]
const STEPS = ['survey', 'check-map', 'fit', 'shrink', 'grow', 'sample'] as const
const FILE_BYTES = 2000
const PER_FOLDER = 1000
const FIRST = MIB

const env = { ...process.env, PATH: `${process.env.PATH}:/usr/sbin:/sbin` }
const run = (program: string, ...args: string[]) =>
  execFileSync(program, args, { encoding: 'utf8', env, stdio: ['ignore', 'pipe', 'pipe'] }).trim()

/** `only`: as many files as this and no more, for a quick look. */
export function benchFiles(folder: string, line: Line, only = Infinity): void {
  if (process.getuid?.() !== 0) return line('very many files', 'needs root, to mount what it fills')
  for (const kind of ['ntfs', 'ext4'] as const) {
    for (const count of COUNTS.filter((c) => c <= only)) {
      const disk = path.join(folder, `${kind}-${count}.img`)
      fill(disk, kind, count)
      for (const step of STEPS) {
        // What the kind cannot do is left out.
        if (kind === 'ext4' && step === 'shrink') continue
        const said = run(process.execPath, '--import', 'tsx', 'scripts/bench-files-step.ts', step, disk)
        const { seconds, peakMib } = JSON.parse(said) as { seconds: number; peakMib: number }
        line(`${kind}, ${count} files: ${step}`, `${seconds.toFixed(2)} s, at most ${Math.round(peakMib)} MiB`)
      }
      rmSync(disk)
    }
  }
}

/** A disk with one partition, its volume filled through the system's own driver. */
function fill(disk: string, kind: 'ntfs' | 'ext4', count: number): void {
  writeFileSync(disk, '')
  truncateSync(disk, FIRST * 2 + Math.max(GIB, count * 16 * 1024))
  run('sgdisk', '-n', '1:2048:0', '-t', kind === 'ntfs' ? '1:0700' : '1:8300', disk)
  const loop = run('losetup', '-f', '--show', '-o', String(FIRST), '--sizelimit', String(sizeOf(disk)), disk)
  const place = `${disk}.mounted`
  mkdirSync(place)
  try {
    if (kind === 'ntfs') run('mkntfs', '-q', '-F', '-f', loop)
    else run('mkfs.ext4', '-q', '-F', '-N', String(count + 100_000), loop)
    if (kind === 'ntfs') run('ntfs-3g', loop, place)
    else run('mount', loop, place)
    const content = Buffer.alloc(FILE_BYTES, 'a small file ')
    for (let i = 0; i < count; i++) {
      const at = path.join(place, String(Math.floor(i / PER_FOLDER)))
      if (i % PER_FOLDER === 0) mkdirSync(at)
      writeFileSync(path.join(at, `${i}.txt`), content)
    }
    run('umount', place)
  } finally {
    run('sync')
    // It goes when the driver, which writes the rest after it was unmounted, has let go of it.
    run('losetup', '-d', loop)
    while (run('losetup', '-j', disk) !== '') run('sleep', '0.1')
    rmSync(place, { recursive: true, force: true })
  }
}

function sizeOf(disk: string): number {
  const { partitiontable } = JSON.parse(run('sfdisk', '-J', disk)) as {
    partitiontable: { partitions: { size: number }[] }
  }
  return partitiontable.partitions[0].size * 512
}
