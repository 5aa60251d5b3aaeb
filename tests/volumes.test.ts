import { execFileSync } from 'node:child_process'
import { mkdirSync, mkdtempSync, readFileSync, rmSync, symlinkSync, truncateSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { Extent } from '@/core/block/device'
import { mergeExtents } from '@/core/block/extents'
import { type FileSystem, openFileSystem } from '@/core/filesystem'
import { collect } from '@/core/testing'
import { toHex } from '@/core/digest'
import { type HostImage, openHostImage } from '@/host/images'
import { blake3 } from '@/host/strong-digest'

// Volumes made by the systems' own tools, read by Imbarco.

const MIB = 1024 * 1024
let folder: string
const opened: HostImage[] = []
const big = Buffer.alloc(3_000_000)
for (let i = 0; i < big.length; i++) big[i] = (i * 7 + (i >> 9)) & 0xff

const sum = (bytes: Uint8Array) => toHex(blake3(bytes))
const at = (...parts: string[]) => path.join(folder, ...parts)
const run = (program: string, ...args: string[]) =>
  execFileSync(program, args, {
    encoding: 'utf8',
    env: { ...process.env, PATH: `${process.env.PATH}:/usr/sbin:/sbin`, MTOOLS_SKIP_CHECK: '1' },
    stdio: ['pipe', 'pipe', 'pipe'],
  })

beforeAll(() => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-volumes-'))
  mkdirSync(at('tree', 'dir', 'sub'), { recursive: true })
  writeFileSync(at('tree', 'hello.txt'), 'hello harbour\n')
  writeFileSync(at('tree', 'dir', 'big.bin'), big)
  writeFileSync(at('tree', 'dir', 'sparse.bin'), 'start')
  truncateSync(at('tree', 'dir', 'sparse.bin'), 5 * MIB + 3)
  symlinkSync('dir/big.bin', at('tree', 'link'))
  symlinkSync('/hello.txt', at('tree', 'dir', 'sub', 'abs'))
  for (let i = 0; i < 300; i++) writeFileSync(at('tree', 'dir', 'sub', `file number ${i}.txt`), `${i}\n`)
})

afterAll(async () => {
  for (const image of opened) await image.close()
  rmSync(folder, { recursive: true, force: true })
})

function blank(name: string, bytes: number): string {
  writeFileSync(at(name), '')
  truncateSync(at(name), bytes)
  return at(name)
}

async function open(file: string): Promise<FileSystem> {
  const image = await openHostImage(file, { sectorSize: 512 })
  opened.push(image)
  const fileSystem = await openFileSystem(image.device)
  expect(fileSystem).toBeDefined()
  return fileSystem!
}

async function used(fileSystem: FileSystem): Promise<{ bytes: number; extents: Extent[] }> {
  const extents = await collect(mergeExtents(fileSystem.usedExtents()))
  return { bytes: extents.reduce((sum, e) => sum + e.length, 0), extents }
}

describe('ext', () => {
  it.each([
    ['ext2', 'ext2', ['-t', 'ext2'], 64],
    ['ext3', 'ext3', ['-t', 'ext3'], 64],
    ['ext4', 'ext4', ['-t', 'ext4'], 256],
    ['ext4 with blocks of 1 KiB and no 64 bits', 'ext4', ['-t', 'ext4', '-b', '1024', '-O', '^64bit'], 64],
    ['ext4 with clusters of many blocks', 'ext4', ['-t', 'ext4', '-O', 'bigalloc', '-C', '65536'], 3072],
    ['ext4 with meta groups', 'ext4', ['-t', 'ext4', '-O', 'meta_bg,^resize_inode', '-b', '1024'], 1024],
    ['ext4 without checksums and lazy tables', 'ext4', ['-t', 'ext4', '-O', '^metadata_csum,uninit_bg'], 2048],
    ['ext4 with two backups', 'ext4', ['-t', 'ext4', '-O', 'sparse_super2'], 1024],
  ])('%s: identity, files, and the very blocks that the tool calls used', async (name, kind, options, mib) => {
    const file = blank(`${name.replaceAll(' ', '-')}.img`, mib * MIB)
    run(
      'mke2fs',
      '-q',
      '-L',
      'lantern',
      '-U',
      '0b54c9e1-6ad8-47f3-90b2-1c7de5f8a364',
      ...options,
      '-d',
      at('tree'),
      file,
    )
    const volume = await open(file)
    expect([volume.kind, volume.label, volume.serial, volume.state]).toEqual([
      kind,
      'lantern',
      '0b54c9e1-6ad8-47f3-90b2-1c7de5f8a364',
      'clean',
    ])
    expect(volume.totalBytes).toBe(mib * MIB)
    expect(sum(await volume.readFile('/dir/big.bin'))).toBe(sum(big))
    expect(sum(await volume.readFile('/link'))).toBe(sum(big))
    expect(Buffer.from(await volume.readFile('/dir/sub/abs')).toString()).toBe('hello harbour\n')
    expect(sum(await volume.readFile('/dir/sparse.bin'))).toBe(sum(readFileSync(at('tree', 'dir', 'sparse.bin'))))
    expect((await volume.list('/dir/sub')).map((e) => e.name).sort()).toEqual(
      ['abs', ...Array.from({ length: 300 }, (_, i) => `file number ${i}.txt`)].sort(),
    )
    expect((await volume.stat('/dir/sub/abs'))?.kind).toBe('file')
    expect((await volume.list('/')).find((e) => e.name === 'link')?.kind).toBe('link')

    // The free blocks of every group, as e2fsprogs lists them, are exactly what is not used here.
    const text = run('dumpe2fs', file)
    const blockSize = Number(/^Block size:\s+(\d+)/m.exec(text)![1])
    // A cluster of many blocks is named by its first.
    const last = volume.clusterSize / blockSize - 1
    const free = [...text.matchAll(/^ {2}Free blocks: (.+)$/gm)]
      .flatMap((m) => m[1].split(', '))
      .map((range) => range.split('-').map(Number))
      .map(([from, to = from]) => ({ offset: from * blockSize, length: (to + last - from + 1) * blockSize }))
    const { extents } = await used(volume)
    const gaps: Extent[] = []
    let next = 0
    for (const e of extents) {
      if (e.offset > next) gaps.push({ offset: next, length: e.offset - next })
      next = e.offset + e.length
    }
    if (next < mib * MIB) gaps.push({ offset: next, length: mib * MIB - next })
    expect(gaps).toEqual(await collect(mergeExtents(free)))
  })

  it('that was not closed is told', async () => {
    const file = blank('open.img', 16 * MIB)
    run('mke2fs', '-q', '-t', 'ext4', file)
    run('debugfs', '-w', '-R', 'set_super_value state 0', file)
    expect((await open(file)).state).toBe('dirty')
    run('debugfs', '-w', '-R', 'feature needs_recovery', file)
    const volume = await open(file)
    expect(volume.findings[0].sentence).toMatch(/journal still holds/)
  })

  it('writes no file that is not there', async () => {
    const volume = await open(at('ext2.img'))
    await expect(volume.readFile('/nothing')).rejects.toThrow(/There is no \/nothing/)
    await expect(volume.list('/hello.txt')).rejects.toThrow(/There is no/)
  })
})

describe('FAT', () => {
  it.each([
    [12, 2],
    [16, 32],
    [32, 300],
  ])('of %i bits: identity, files, used clusters', async (bits, mib) => {
    const file = blank(`fat${bits}.img`, mib * MIB)
    run('mkfs.fat', '-F', String(bits), '-n', `QUAY${bits}`, '-i', '6a1f20c4', file)
    run('mmd', '-i', file, '::/Folder')
    run('mcopy', '-i', file, at('tree', 'hello.txt'), '::/')
    run('mcopy', '-i', file, at('tree', 'dir', 'sub', 'file number 7.txt'), '::/Folder/A long name indeed.txt')
    if (mib > 2) run('mcopy', '-i', file, at('tree', 'dir', 'big.bin'), '::/Folder/big.bin')
    const volume = await open(file)
    expect([volume.kind, volume.label, volume.serial, volume.state]).toEqual([
      `fat${bits}`,
      `QUAY${bits}`,
      '6A1F-20C4',
      'clean',
    ])
    expect(Buffer.from(await volume.readFile('/Folder/a LONG name indeed.txt')).toString()).toBe('7\n')
    if (mib > 2) expect(sum(await volume.readFile('/folder/BIG.BIN'))).toBe(sum(big))
    const [, clusters, all] = /(\d+)\/(\d+) clusters/.exec(run('fsck.fat', '-n', '-v', file))!.map(Number)
    const { bytes } = await used(volume)
    const behind = mib * MIB - volume.totalBytes
    expect(Math.floor((volume.totalBytes - (bytes - behind)) / volume.clusterSize)).toBe(all - clusters)
  })

  it('notes a volume that was not closed', async () => {
    const bytes = readFileSync(at('fat16.img'))
    bytes[37] |= 1
    writeFileSync(at('fat16-open.img'), bytes)
    expect((await open(at('fat16-open.img'))).state).toBe('dirty')
  })
})

describe('exFAT', () => {
  it('gives identity and the clusters that its bitmap names', async () => {
    const file = blank('exfat.img', 64 * MIB)
    run('mkfs.exfat', '-L', 'Harbour', file)
    const volume = await open(file)
    expect([volume.kind, volume.label, volume.state, volume.totalBytes]).toEqual([
      'exfat',
      'Harbour',
      'clean',
      64 * MIB,
    ])
    expect(await volume.list('/')).toEqual([])
    const text = run('dump.exfat', file)
    const value = (name: string) => Number(new RegExp(`${name}:\\s+(\\d+)`).exec(text)![1])
    const free = value('Free Clusters')
    const { bytes } = await used(volume)
    expect(volume.totalBytes - bytes).toBe(free * volume.clusterSize)
  })
})

describe('APFS', () => {
  it.each([600, 40_960])(
    'of %i MiB: identity, volumes and a map that its own checker would agree with',
    async (mib) => {
      const file = blank(`apfs-${mib}.img`, mib * MIB)
      run('mkapfs', '-L', 'Regatta', file)
      const volume = await open(file)
      expect([volume.kind, volume.label, volume.depth]).toEqual(['apfs', 'Regatta', 'map'])
      expect(volume.serial).toMatch(/^[0-9a-f]{8}-/)
      const { bytes, extents } = await used(volume)
      // Every block that holds anything is used; the new container holds little besides.
      const image = opened.at(-1)!
      for (const { offset, length } of await image.device.mapped!(0, image.device.size)) {
        expect(extents.some((e) => e.offset <= offset && e.offset + e.length >= offset + length)).toBe(true)
      }
      expect(bytes).toBeLessThan(64 * MIB)
      await expect(volume.list('/')).rejects.toThrow(/not read here/)
    },
  )
})

describe('what cannot be looked into', () => {
  it.each(['luks1', 'luks2'])('%s is recognised as encrypted, every sector of it used', async (type) => {
    const file = blank(`${type}.img`, 32 * MIB)
    execFileSync(
      '/usr/sbin/cryptsetup',
      ['luksFormat', '-q', '--type', type, '--pbkdf', 'pbkdf2', '--pbkdf-force-iterations', '1000', file, '-'],
      { input: 'secret' },
    )
    const volume = await open(file)
    expect([volume.kind, volume.encrypted, volume.depth]).toEqual(['luks', true, 'sealed'])
    expect(volume.serial).toBe(run('cryptsetup', 'luksUUID', file).trim())
    expect((await used(volume)).bytes).toBe(32 * MIB)
    expect(volume.findings.at(-1)?.sentence).toMatch(/every sector/)
  })

  it('a swap area is known with its label, and one in which a system sleeps', async () => {
    const file = blank('swap.img', 16 * MIB)
    run('mkswap', '-L', 'boiler', file)
    const volume = await open(file)
    expect([volume.kind, volume.label, volume.state, (await used(volume)).bytes]).toEqual([
      'swap',
      'boiler',
      'clean',
      4096,
    ])
    const bytes = readFileSync(file)
    bytes.write('S1SUSPEND\0', 4086, 'latin1')
    writeFileSync(at('asleep.img'), bytes)
    const asleep = await open(at('asleep.img'))
    expect([asleep.state, (await used(asleep)).bytes]).toEqual(['dirty', 16 * MIB])
  })
})
