import { execFileSync } from 'node:child_process'
import { createHash } from 'node:crypto'
import { closeSync, mkdtempSync, openSync, readSync, rmdirSync, truncateSync, writeFileSync, writeSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { isZero } from '@/core/block/device'

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

const GRAIN = 64 * 1024

/**
 * Digest of what bytes hold: every 64 KiB that are not all zeros with their place, and the length. Most of a disk is
 * zeros, which so need no hashing.
 */
class ContentDigest {
  private readonly hash = createHash('sha256')
  private at = 0

  /** The next bytes; whole pieces of 64 KiB but for the last ones. */
  add(bytes: Uint8Array): void {
    for (let from = 0; from < bytes.length; from += GRAIN) {
      const piece = bytes.subarray(from, from + GRAIN)
      if (!isZero(piece)) this.hash.update(`${this.at + from} `).update(piece)
    }
    this.at += bytes.length
  }

  end(): string {
    return this.hash.update(`${this.at} in all`).digest('hex')
  }
}

/** Digest of what some bytes hold, as `shaOfFile` has it of a file. */
export function shaOfBytes(bytes: Uint8Array): string {
  const digest = new ContentDigest()
  digest.add(bytes)
  return digest.end()
}

/** Digest of what a file holds; the same whether its zeros are stored or not. */
export function shaOfFile(file: string): string {
  const digest = new ContentDigest()
  const buffer = new Uint8Array(64 * GRAIN)
  const fd = openSync(file, 'r')
  try {
    for (;;) {
      let filled = 0
      for (let read = 1; read > 0 && filled < buffer.length; filled += read)
        read = readSync(fd, buffer, filled, buffer.length - filled, null)
      digest.add(buffer.subarray(0, filled))
      if (filled < buffer.length) return digest.end()
    }
  } finally {
    closeSync(fd)
  }
}

/** Digest of the disk in an image, unpacked by 7zip. */
export function diskDigest(file: string, type: 'vhd' | 'vhdx' | 'qcow' | 'vmdk'): string {
  const bytes = execFileSync('7zz', ['x', '-so', `-t${type}`, file], { maxBuffer: 512 * 1024 * 1024 })
  return shaOfBytes(bytes)
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
