import { execFileSync } from 'node:child_process'
import { createHash } from 'node:crypto'
import { closeSync, openSync, readFileSync, truncateSync, writeFileSync, writeSync } from 'node:fs'

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
export function diskDigest(file: string, type: 'vhd' | 'vhdx' | 'qcow'): string {
  const bytes = execFileSync('7zz', ['x', '-so', `-t${type}`, file], { maxBuffer: 512 * 1024 * 1024 })
  return createHash('sha256').update(bytes).digest('hex')
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
