import { execFileSync, spawn, spawnSync } from 'node:child_process'
import { existsSync, mkdirSync, mkdtempSync, rmSync, statSync, truncateSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { vi } from 'vitest'
import { readBytes } from '@/core/block/device'
import { pattern } from '@/core/testing'
import { makeSystemDisk } from '@/core/testing-disk'
import { sparseFile } from './image-files'

// Loop devices of the kernel stand for drives that are plugged in.

const MIB = 1024 * 1024

export const run = (program: string, ...args: string[]) => execFileSync(program, args, { encoding: 'utf8' }).trim()

/** Whether the kernel gives loop devices here; where it does not, as in most containers, tests with them are skipped. */
export function canHaveLoops(): boolean {
  if (process.getuid?.() !== 0) return false
  const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-loop-'))
  const file = path.join(folder, 'try')
  writeFileSync(file, new Uint8Array(MIB))
  const { status, stdout } = spawnSync('losetup', ['-f', '--show', file], { encoding: 'utf8' })
  if (status === 0) spawnSync('losetup', ['-d', stdout.trim()])
  rmSync(folder, { recursive: true })
  return status === 0
}

/** Loop devices over the files of a folder, all of which end with `release`. */
export class Loops {
  private readonly attached = new Set<string>()
  private readonly undo: (() => void)[] = []

  constructor(readonly folder: string) {}

  attach(file: string, ...options: string[]): string {
    const loop = run('losetup', '-f', '--show', ...options, file)
    this.attached.add(loop)
    return loop
  }

  detach(loop: string): void {
    this.attached.delete(loop)
    run('losetup', '-d', loop)
  }

  /** An empty file of that many bytes. */
  blank(name: string, bytes: number): string {
    const file = path.join(this.folder, name)
    writeFileSync(file, '')
    truncateSync(file, bytes)
    return file
  }

  /** Does something when all is released, the last first. */
  atEnd(back: () => void): void {
    this.undo.push(back)
  }

  release(): void {
    for (const back of this.undo.splice(0).reverse()) back()
    for (const loop of this.attached) spawnSync('losetup', ['-d', loop])
    this.attached.clear()
  }

  /**
   * A file whose reads go through a shell command before they come from `source`: `onRead` is told the length in `$3` and
   * the place in `$4`, and fails the reading by a line on its error output and an exit of 1.
   */
  async throughCommand(name: string, source: string, onRead: string): Promise<string> {
    const { size } = statSync(source)
    const read = `${onRead}; dd if=${source} iflag=skip_bytes,count_bytes skip=$4 count=$3 bs=64K status=none`
    return this.served(name, size, ['eval', `get_size=echo ${size}`, `pread=${read}`, 'can_write=exit 3'])
  }

  /** An empty file of that many bytes that takes nothing as long as there is a file `trigger`. */
  failingToWrite(name: string, size: number, trigger: string): Promise<string> {
    const errors = ['error-pwrite=EIO', 'error-pwrite-rate=100%', `error-pwrite-file=${trigger}`]
    return this.served(name, size, ['--filter=error', 'file', this.blank(`${name}.img`, size), ...errors])
  }

  /** An empty file that says to have that many bytes, and forgets what is written behind `really` of them. */
  smallerThanItSays(name: string, size: number, really: number): Promise<string> {
    const file = this.blank(`${name}.img`, size)
    const dd = 'iflag=fullblock,count_bytes bs=64K status=none'
    return this.served(name, size, [
      ...['eval', `get_size=echo ${size}`, 'can_write=exit 0', 'can_flush=exit 0', 'flush=exit 0'],
      `pread=dd if=${file} iflag=skip_bytes,count_bytes skip=$4 count=$3 bs=64K status=none`,
      `pwrite=if [ $4 -ge ${really} ]; then cat >/dev/null; else dd of=${file} oflag=seek_bytes conv=notrunc seek=$4 count=$3 ${dd}; fi`,
    ])
  }

  /** A file that nbdkit gives, by FUSE. */
  private async served(name: string, size: number, words: readonly string[]): Promise<string> {
    const place = path.join(this.folder, name)
    mkdirSync(place)
    const file = path.join(place, 'disk')
    writeFileSync(file, '')
    // What it prints of every failure would fill a pipe that nobody reads.
    const fuse = spawn('nbdfuse', [file, '--command', 'nbdkit', '-s', ...words], { stdio: 'ignore' })
    this.atEnd(() => {
      spawnSync('fusermount3', ['-uz', file])
      spawnSync('fusermount', ['-uz', file])
      fuse.kill()
    })
    await vi.waitUntil(() => existsSync(file) && statSync(file).size === size, { timeout: 20_000 })
    return file
  }
}

/** The content of the file `/Charts/north.tif` on the disk of `systemDisk`. */
export const CHART = pattern(8 * MIB, 6)

/** A disk with a system as a sparse file. Returns its bytes. */
export async function systemDisk(file: string): Promise<number> {
  const disk = await makeSystemDisk({ systemFiles: [{ path: '/Charts/north.tif', content: CHART }] })
  const parts: [number, Uint8Array][] = []
  for (const { offset, length } of await disk.mapped(0, disk.size))
    parts.push([offset, await readBytes(disk, offset, length)])
  sparseFile(file, disk.size, parts)
  return disk.size
}

/** The first sector of a content on a disk, whose clusters begin at round places. */
export function sectorOf(disk: Buffer, content: Uint8Array): number {
  const first = Buffer.from(content.subarray(0, 64 * 1024))
  for (let at = 0; at < disk.length; at += 4096) if (disk.subarray(at, at + first.length).equals(first)) return at / 512
  throw new Error('It is not on the disk.')
}

/** A shell command that fails readings which meet these bytes. */
export const failsIn = (from: number, to: number) =>
  `if [ $(($4 < ${to} && $4 + $3 > ${from})) = 1 ]; then echo EIO it fails >&2; exit 1; fi`
