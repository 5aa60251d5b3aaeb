import { execFileSync } from 'node:child_process'
import { createHash } from 'node:crypto'
import {
  closeSync,
  mkdtempSync,
  openSync,
  readFileSync,
  rmdirSync,
  truncateSync,
  writeFileSync,
  writeSync,
} from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'

// Small helpers for tests of image files.

/** A sparse file of this size with some bytes at some places. */
export function sparseFile(file: string, size: number, parts: readonly (readonly [number, Uint8Array])[]): string {
  writeFileSync(file, '')
  truncateSync(file, size)
  const fd = openSync(file, 'r+')
  for (const [offset, bytes] of parts) writeSync(fd, bytes, 0, bytes.length, offset)
  closeSync(fd)
  return file
}

export function shaOfFile(file: string): string {
  return createHash('sha256').update(readFileSync(file)).digest('hex')
}

/** Digest of the disk in an image, unpacked by 7zip. */
export function diskDigest(file: string, type: 'vhd' | 'vhdx' | 'qcow' | 'vmdk'): string {
  const bytes = execFileSync('7zz', ['x', '-so', `-t${type}`, file], { maxBuffer: 512 * 1024 * 1024 })
  return createHash('sha256').update(bytes).digest('hex')
}

const MOUNTERS = { vhd: 'vhdi', vhdx: 'vhdi', qcow: 'qcow', vmdk: 'vmdk' } as const

/** The same, as libvhdi, libqcow and libvmdk show it. */
export function mountedDigest(file: string, type: keyof typeof MOUNTERS): string {
  const name = MOUNTERS[type]
  const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-mount-'))
  execFileSync(`${name}mount`, [file, folder], { stdio: 'pipe' })
  try {
    return shaOfFile(path.join(folder, `${name}1`))
  } finally {
    execFileSync('umount', [folder])
    rmdirSync(folder)
  }
}

/** Runs the command. Gives its exit code and what it printed. */
export function imbarco(...args: string[]): { code: number; out: string; error: string } {
  try {
    const out = execFileSync('bin/imbarco', args, {
      encoding: 'utf8',
      stdio: 'pipe',
      maxBuffer: 64 * 1024 * 1024,
      timeout: 120_000,
    })
    return { code: 0, out, error: '' }
  } catch (failure) {
    const { status, stdout, stderr } = failure as { status: number; stdout: string; stderr: string }
    return { code: status, out: stdout, error: stderr }
  }
}
