import { execFileSync } from 'node:child_process'
import {
  closeSync,
  fstatSync,
  mkdtempSync,
  openSync,
  readSync,
  rmdirSync,
  truncateSync,
  writeFileSync,
  writeSync,
} from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { Blake3Hasher } from '@napi-rs/blake-hash'
import koffi from 'koffi'
import { runCommand } from '@/cli/program'
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
const READ = 64 * GRAIN

/**
 * Digest of what bytes hold: every 64 KiB that are not all zeros with their place, and the length. Most of a disk is
 * zeros, which so need no hashing.
 */
class ContentDigest {
  private readonly hash = new Blake3Hasher()
  private at = 0

  /** The next bytes; whole pieces of 64 KiB but for the last ones. */
  add(bytes: Uint8Array): void {
    for (let from = 0; from < bytes.length; from += GRAIN) {
      const piece = bytes.subarray(from, from + GRAIN)
      if (!isZero(piece)) this.hash.update(`${this.at + from} `).update(piece)
    }
    this.at += bytes.length
  }

  /** What comes up to a place is zeros. */
  skipTo(place: number): void {
    this.at = place
  }

  end(): string {
    return this.hash.update(`${this.at} in all`).digest('hex')
  }
}

/** Digest of what some bytes hold, as `digestOfFile` has it of a file. */
export function digestOfBytes(bytes: Uint8Array): string {
  const digest = new ContentDigest()
  digest.add(bytes)
  return digest.end()
}

const SEEK_DATA = 3
const seek = koffi.load('libc.so.6').func('int64_t lseek(int fd, int64_t offset, int whence)')

/** Digest of what a file holds; the same whether its zeros are stored or not. */
export function digestOfFile(file: string): string {
  const digest = new ContentDigest()
  const buffer = new Uint8Array(READ)
  const fd = openSync(file, 'r')
  try {
    const { size } = fstatSync(fd)
    for (let at = 0; at < size;) {
      const data = Number(seek(fd, at, SEEK_DATA))
      const from = data < 0 ? size : Math.max(at, Math.floor(data / GRAIN) * GRAIN)
      digest.skipTo(from)
      const length = Math.min(READ, size - from)
      let filled = 0
      while (filled < length) filled += readSync(fd, buffer, filled, length - filled, from + filled)
      digest.add(buffer.subarray(0, length))
      at = from + length
    }
    return digest.end()
  } finally {
    closeSync(fd)
  }
}

/** Digest of the disk in an image, unpacked by 7zip. */
export function diskDigest(file: string, type: 'vhd' | 'vhdx' | 'qcow' | 'vmdk'): string {
  const bytes = execFileSync('7zz', ['x', '-so', `-t${type}`, file], { maxBuffer: 512 * 1024 * 1024 })
  return digestOfBytes(bytes)
}

const MOUNTERS = { vhd: 'vhdi', vhdx: 'vhdi', qcow: 'qcow', vmdk: 'vmdk' } as const

/** The same, as libvhdi, libqcow and libvmdk show it. */
export function mountedDigest(file: string, type: keyof typeof MOUNTERS): string {
  const name = MOUNTERS[type]
  const folder = mkdtempSync(path.join(tmpdir(), 'imbarco-mount-'))
  execFileSync(`${name}mount`, [file, folder], { stdio: 'pipe' })
  try {
    return digestOfFile(path.join(folder, `${name}1`))
  } finally {
    execFileSync('umount', [folder])
    rmdirSync(folder)
  }
}

/** Carries out a command line in this process, which is as `bin/imbarco` does it, but for what starting that takes. */
export async function imbarco(...args: string[]): Promise<{ code: number; out: string; error: string }> {
  const out: Buffer[] = []
  let error = ''
  const code = await runCommand(args, {
    print: async (text) => void out.push(Buffer.from(text)),
    say: () => {},
    warn: (text) => void (error += `${text}\n`),
    tell: (progress) => void (error += `${JSON.stringify({ progress })}\n`),
    ask: async () => undefined,
    signal: new AbortController().signal,
  })
  return { code, out: Buffer.concat(out).toString(), error }
}
