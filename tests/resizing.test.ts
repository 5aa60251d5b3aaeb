import { execFileSync, spawnSync } from 'node:child_process'
import { mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { SparseFileDevice } from '@/bench/sparse-file'
import { type BlockDevice, type Extent, readBytes } from '@/core/block/device'
import { MemoryDevice } from '@/core/block/memory'
import { openFileSystem, recognise } from '@/core/filesystem'
import { checkMap } from '@/core/filesystem/map-check'
import type { NewFile } from '@/core/filesystem/new-files'
import { formatNtfs } from '@/core/filesystem/ntfs/format'
import { planCopy } from '@/core/copy/plan'
import { runCopy } from '@/core/copy/run'
import { solveFit } from '@/core/fit/solve'
import { writeGpt } from '@/core/scheme/gpt'
import { TYPE_GUIDS } from '@/core/scheme/types'
import { SliceDevice } from '@/core/block/slice'
import { surveyDrive } from '@/core/survey/survey'
import { blake3, sha256 } from '@/core/testing-disk'
import { type HostImage, openHostImage } from '@/host/images'
import { sparseFile } from './support/image-files'
import { checkFat, extractDigests, sumOf } from './support/independent'

// Volumes made by the systems' own tools, given another size by Imbarco, and checked by those tools again.

const MIB = 1024 * 1024
let folder: string
const opened: HostImage[] = []
const at = (...parts: string[]) => path.join(folder, ...parts)
const env = { ...process.env, PATH: `${process.env.PATH}:/usr/sbin:/sbin`, MTOOLS_SKIP_CHECK: '1' }
const run = (program: string, ...args: string[]) =>
  execFileSync(program, args, { encoding: 'utf8', env, stdio: 'pipe' })

/** Bytes that tell their place and their file. */
function content(length: number, seed: number): Buffer {
  const bytes = Buffer.alloc(length)
  for (let i = 0; i + 8 <= length; i += 256) {
    bytes.writeUInt32LE(seed, i)
    bytes.writeUInt32LE(i, i + 4)
  }
  return bytes
}

beforeAll(() => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-resizing-'))
  mkdirSync(at('tree', 'Deep', 'er', 'and', 'deeper'), { recursive: true })
  writeFileSync(at('tree', 'notes.txt'), 'tide tables\n')
  writeFileSync(at('tree', 'Deep', 'large.bin'), content(2_500_000, 1))
  writeFileSync(at('tree', 'Deep', 'er', 'empty'), '')
  for (let i = 0; i < 300; i++) {
    const where = i % 3 === 0 ? ['Deep'] : ['Deep', 'er', 'and', 'deeper']
    writeFileSync(
      at('tree', ...where, `a rather long name for card number ${i}.json`),
      content(20 + ((i * 37) % 2000), i),
    )
  }
})

afterAll(async () => {
  for (const image of opened) await image.close()
  rmSync(folder, { recursive: true, force: true })
})

const blank = (name: string, bytes: number) => sparseFile(at(name), bytes, [])

async function device(file: string): Promise<BlockDevice> {
  const image = await openHostImage(file, { sectorSize: 512 })
  opened.push(image)
  return image.device
}

/** The volume in its new size, written to a file: what is in use of it and nothing else. */
async function resized(source: BlockDevice, bytes: number, name: string): Promise<string> {
  const driver = await recognise(source)
  const volume = await driver!.resize!(source, bytes)
  const file = at(name)
  const target = await SparseFileDevice.create(file, bytes)
  const fileSystem = await openFileSystem(volume)
  for await (const used of fileSystem!.usedExtents())
    for (const { offset, length } of await mapped(volume, used)) {
      for (let from = offset; from < offset + length; from += 4 * MIB) {
        const piece = await readBytes(volume, from, Math.min(4 * MIB, offset + length - from))
        if (piece.some((byte) => byte !== 0)) await target.write(from, piece)
      }
    }
  await target.close()
  return file
}

/** What of a stretch may hold anything but zeros. */
async function mapped(volume: BlockDevice, { offset, length }: Extent): Promise<readonly Extent[]> {
  const sectors = { offset, length: Math.ceil(length / 512) * 512 }
  return volume.mapped ? volume.mapped(sectors.offset, sectors.length) : [sectors]
}

/** What the survey calls the least that a volume can be. */
async function leastOf(source: BlockDevice): Promise<number> {
  const volume = await openFileSystem(source)
  let used = 0
  for await (const { length } of volume!.usedExtents()) used += length
  return Math.ceil(volume!.shrunk!(used).bytes / 512) * 512
}

/** Paths of all files below a folder of this machine, with their digests. */
function digestsOf(root: string, below = ''): Map<string, string> {
  const found = new Map<string, string>()
  for (const name of readdirSync(path.join(root, below))) {
    const inner = path.join(below, name)
    if (statSync(path.join(root, inner)).isDirectory()) for (const [k, v] of digestsOf(root, inner)) found.set(k, v)
    else found.set(inner, sumOf(readFileSync(path.join(root, inner))))
  }
  return found
}

/** Every file of the tree is there, by Imbarco's reader. */
async function expectTree(file: string, prefix = ''): Promise<void> {
  const volume = await openFileSystem(await device(file))
  expect(volume!.state).toBe('clean')
  for (const [name, digest] of digestsOf(at('tree'))) {
    expect(sumOf(await volume!.readFile(`${prefix}/${name}`)), name).toBe(digest)
  }
}

/** The same by 7zip. */
function expectExtracted(file: string, out: string): void {
  const digests = extractDigests(file, '*', at(out))
  for (const [name, digest] of digestsOf(at('tree'))) expect(digests.get(name), name).toBe(digest)
}

describe('ext grows', () => {
  it.each([
    ['ext2', ['-t', 'ext2'], 64, 700],
    ['ext3', ['-t', 'ext3'], 64, 200],
    ['ext4 within its last group', ['-t', 'ext4'], 64, 100],
    ['ext4 by many groups', ['-t', 'ext4'], 256, 5000],
    ['ext4 beyond its blocks of descriptors', ['-t', 'ext4'], 300, 20_000],
    ['ext4 with 32 bits and blocks of 1 KiB', ['-t', 'ext4', '-b', '1024', '-O', '^64bit'], 64, 600],
    ['ext4 with sums of descriptors alone', ['-t', 'ext4', '-O', '^metadata_csum,uninit_bg'], 200, 1500],
    ['ext4 without sums', ['-t', 'ext4', '-O', '^metadata_csum,^uninit_bg'], 200, 1500],
    ['ext4 without flex groups', ['-t', 'ext4', '-O', '^flex_bg'], 200, 1500],
    ['ext4 with a seed of its own', ['-t', 'ext4', '-O', 'metadata_csum_seed'], 200, 1500],
    ['ext4 to an end that is too short for a group', ['-t', 'ext4'], 128, 129],
  ])('%s, and e2fsck finds nothing', async (name, options, before, after) => {
    const file = blank('ext.img', before * MIB)
    run('mke2fs', '-q', ...options, '-d', at('tree'), file)
    const grown = await resized(await device(file), after * MIB, `${name}.img`)
    const { stdout, status } = spawnSync('e2fsck', ['-fn', grown], { encoding: 'utf8', env })
    expect(status, stdout).toBe(0)
    expect(stdout).not.toMatch(/\? no|fix|wrong|invalid/i)
    await expectTree(grown)
    const blocks = Number(/^Block count:\s+(\d+)/m.exec(run('dumpe2fs', '-h', grown))![1])
    const size = Number(/^Block size:\s+(\d+)/m.exec(run('dumpe2fs', '-h', grown))![1])
    expect(blocks * size).toBeGreaterThanOrEqual((after - 2) * MIB)
    rmSync(grown)
  })

  it('onto a drive with sectors of 4096 bytes, with its table and every file', async () => {
    const volume = blank('sectors.img', 200 * MIB)
    run('mke2fs', '-q', '-t', 'ext4', '-b', '4096', '-d', at('tree'), volume)
    const source = new MemoryDevice(220 * MIB)
    const partition = {
      number: 1,
      typeGuid: TYPE_GUIDS.linuxData,
      guid: '0b54c9e1-6ad8-47f3-90b2-1c7de5f8a364',
      name: 'root',
    }
    const places = { firstLba: 2048, lastLba: 2048 + (200 * MIB) / 512 - 1, attributes: '0'.repeat(16) }
    const table = { diskGuid: '91f0c1d2-1111-4222-8333-4444555533c7', entryCount: 128, entrySize: 128 }
    await writeGpt(source, { ...table, partitions: [{ ...partition, ...places }] })
    const content = await device(volume)
    for (const { offset, length } of await content.mapped!(0, content.size)) {
      await source.write(MIB + offset, await readBytes(content, offset, length))
    }
    const survey = await surveyDrive(source, sha256)
    const fit = solveFit(survey, { sizeBytes: 900 * MIB, logicalSectorSize: 4096 })
    if (!fit.fits) throw new Error(fit.obstacles[0].sentence)
    const target = new MemoryDevice(900 * MIB, 4096)
    await runCopy(await planCopy(source, fit.layout), target, { digest: blake3, note: '', onStep: async () => {} })
    const [now] = (await surveyDrive(target, sha256)).partitions
    expect([now.guid, now.startBytes, now.volume!.state]).toEqual([partition.guid, MIB, 'clean'])
    expect(now.volume!.totalBytes).toBeGreaterThan(800 * MIB)
    const opened = (await openFileSystem(new SliceDevice(target, now.startBytes, now.sizeBytes)))!
    for (const [name, digest] of digestsOf(at('tree')))
      expect(sumOf(await opened.readFile(`/${name}`)), name).toBe(digest)
  })

  it('only as far as the room kept for its descriptors', async () => {
    const file = blank('kept.img', 64 * MIB)
    run('mke2fs', '-q', '-t', 'ext4', '-b', '4096', '-O', '^resize_inode', '-d', at('tree'), file)
    const volume = await openFileSystem(await device(file))
    expect(volume!.mostBytes).toBe(64 * 128 * MIB)
    const grown = await resized(await device(file), 12_000 * MIB, 'kept-grown.img')
    expect(spawnSync('e2fsck', ['-fn', grown], { env }).status).toBe(0)
    expect((await openFileSystem(await device(grown)))!.totalBytes).toBe(64 * 128 * MIB)
  })

  it.each([
    ['meta_bg,^resize_inode', /spread over the volume/],
    ['bigalloc', /taken in clusters/],
    ['sparse_super2', /two chosen groups/],
  ])('not with %s, and says so', async (feature, sentence) => {
    const file = blank('kind.img', 256 * MIB)
    run('mke2fs', '-q', '-t', 'ext4', '-O', feature, file)
    await expect(resized(await device(file), 300 * MIB, 'none.img')).rejects.toThrow(sentence)
  })

  it('is read with clusters over blocks of 1 KiB, where the first superblock is not in the first block', async () => {
    const file = blank('small-blocks.img', 256 * MIB)
    run('mke2fs', '-q', '-t', 'ext4', '-b', '1024', '-O', 'bigalloc', '-C', '16384', '-d', at('tree'), file)
    const volume = (await openFileSystem(await device(file)))!
    expect([volume.state, volume.findings, volume.clusterSize]).toEqual(['clean', [], 16_384])
    await expectTree(file)
    expect((await checkMap(volume))?.missing).toEqual([])
  })

  it('not when it was not closed', async () => {
    const file = blank('open.img', 64 * MIB)
    run('mke2fs', '-q', '-t', 'ext4', file)
    run('debugfs', '-w', '-R', 'set_super_value state 0', file)
    await expect(resized(await device(file), 100 * MIB, 'none.img')).rejects.toThrow(/not closed cleanly/)
  })
})

describe('FAT', () => {
  const make = (mib: number, ...options: string[]) => {
    const file = blank('fat.img', mib * MIB)
    run('mkfs.fat', ...options, file)
    run('mcopy', '-s', '-i', file, at('tree', 'notes.txt'), at('tree', 'Deep'), '::/')
    return file
  }

  it.each([
    ['FAT12 within its kind', ['-F', '12', '-s', '16'], 16, 24, 12],
    ['FAT12 to FAT16', ['-F', '12', '-s', '16'], 16, 90, 16],
    ['FAT12 to FAT32', ['-F', '12', '-s', '16'], 16, 1200, 32],
    ['FAT16 within its kind', ['-F', '16', '-s', '8'], 60, 200, 16],
    ['FAT16 to FAT32', ['-F', '16', '-s', '8'], 60, 700, 32],
    ['FAT32', ['-F', '32', '-s', '1'], 60, 1000, 32],
    ['FAT32 by less than a cluster', ['-F', '32', '-s', '8'], 300, 300.001953125, 32],
    ['FAT32 made smaller', ['-F', '32', '-s', '1'], 100, 40, 32],
    ['FAT16 made smaller', ['-F', '16', '-s', '4'], 100, 15, 16],
    ['FAT12 made smaller', ['-F', '12', '-s', '16'], 30, 16, 12],
  ])('%s keeps every file, and fsck finds nothing', async (name, options, before, after, bits) => {
    const file = make(before, ...options)
    const other = await resized(await device(file), after * MIB, `${name}.img`)
    expect(checkFat(other)).not.toMatch(/differ|wrong|invalid|reclaimed/i)
    expect((await openFileSystem(await device(other)))!.kind).toBe(`fat${bits}`)
    await expectTree(other)
    expectExtracted(other, `${name} out`)
  })

  it.each([
    ['FAT16', ['-F', '16', '-s', '8'], 60, 700],
    ['FAT12', ['-F', '12', '-s', '16'], 16, 1200],
  ])(
    'of %s made FAT32 keeps every file, whatever stands where the upper half of its cluster will be',
    async (kind, options, before, after) => {
      const file = make(before, ...options)
      // Systems of these widths keep something of their own in the word at byte 20 of an entry.
      const bytes = readFileSync(file)
      let entries = 0
      for (let row = 512; row + 32 <= bytes.length; row += 32) {
        const name = bytes.toString('latin1', row, row + 11)
        if (!/^[A-Z0-9~_-]{2}[A-Z0-9~ _-]{9}$/.test(name) || ![0x10, 0x20].includes(bytes[row + 11])) continue
        bytes.writeUInt16LE(0x1234 + entries++, row + 20)
      }
      expect(entries).toBeGreaterThan(300)
      writeFileSync(file, bytes)
      const other = await resized(await device(file), after * MIB, `${kind} with words.img`)
      expect(checkFat(other)).not.toMatch(/differ|wrong|invalid|reclaimed/i)
      expect((await openFileSystem(await device(other)))!.kind).toBe('fat32')
      await expectTree(other)
      expectExtracted(other, `${kind} with words out`)
    },
  )

  it('full of holes goes down to what the survey calls the least', async () => {
    const file = make(100, '-F', '32', '-s', '1')
    // Room between the files, then a file that lies behind all of it.
    run('mdeltree', '-i', file, '::/Deep')
    run('mcopy', '-i', file, at('tree', 'Deep', 'large.bin'), '::/first.bin')
    for (let i = 0; i < 12; i++) run('mcopy', '-i', file, at('tree', 'Deep', 'large.bin'), `::/pad${i}.bin`)
    run('mcopy', '-s', '-i', file, at('tree', 'Deep'), '::/')
    for (let i = 0; i < 12; i += 2) run('mdel', '-i', file, `::/pad${i}.bin`)
    const source = await device(file)
    const least = await leastOf(source)
    const other = await resized(source, least, 'least.img')
    expect(checkFat(other)).not.toMatch(/differ|wrong|invalid|reclaimed/i)
    await expectTree(other)
    await expect(resized(source, Math.floor(least / 2 / 512) * 512, 'none.img')).rejects.toThrow(
      /does not go|has at least/,
    )
  })
})

describe('a volume with thousands of files, deep and with long names', () => {
  const COUNT = 2500
  beforeAll(() => {
    for (let i = 0; i < COUNT; i++) {
      const below = Array.from({ length: 1 + (i % 9) }, (_, depth) => `folder ${(i >> depth) % 4} at depth ${depth}`)
      mkdirSync(at('many', ...below), { recursive: true })
      const name = `${i} ${'a name as long as people make them '.repeat(1 + (i % 4)).trim()}.dat`
      writeFileSync(at('many', ...below, name), content(i % 50 === 0 ? 70_000 : (i * 13) % 900, i))
    }
  })

  async function expectMany(file: string): Promise<void> {
    const volume = (await openFileSystem(await device(file)))!
    const wanted = digestsOf(at('many'))
    expect(wanted.size).toBe(COUNT)
    for (const [name, digest] of wanted) expect(sumOf(await volume.readFile(`/${name}`)), name).toBe(digest)
  }

  it('keeps them all as ext4 made larger', async () => {
    const file = blank('many-ext.img', 128 * MIB)
    run('mke2fs', '-q', '-t', 'ext4', '-d', at('many'), file)
    const grown = await resized(await device(file), 3000 * MIB, 'many-ext-grown.img')
    expect(spawnSync('e2fsck', ['-fn', grown], { env }).status).toBe(0)
    await expectMany(grown)
  })

  it('keeps them all as FAT32 made larger, and as small as it goes', async () => {
    const file = blank('many-fat.img', 200 * MIB)
    run('mkfs.fat', '-F', '32', '-s', '1', file)
    for (const name of readdirSync(at('many'))) run('mcopy', '-s', '-i', file, at('many', name), '::/')
    const source = await device(file)
    const larger = await resized(source, 900 * MIB, 'many-fat-larger.img')
    const least = await resized(source, await leastOf(source), 'many-fat-least.img')
    for (const other of [larger, least]) expect(checkFat(other)).not.toMatch(/differ|wrong|invalid|reclaimed/i)
    await expectMany(least)
    const digests = extractDigests(larger, '*', at('many-fat-out'))
    for (const [name, digest] of digestsOf(at('many'))) expect(digests.get(name), name).toBe(digest)
  })
})

describe('exFAT grows', () => {
  it.each([
    ['a little', 64, 70],
    ['with a longer table and bitmap', 64, 9000],
  ])('%s, and its checker finds nothing', async (name, before, after) => {
    const file = blank('exfat.img', before * MIB)
    run('mkfs.exfat', file)
    const grown = await resized(await device(file), after * MIB, `exfat ${name}.img`)
    const { stdout, stderr, status } = spawnSync('fsck.exfat', ['-n', grown], { encoding: 'utf8', env })
    expect(status, stdout + stderr).toBe(0)
    expect(stdout).toMatch(/clean/)
    expect((await openFileSystem(await device(grown)))!.totalBytes).toBe(after * MIB)
  })
})

describe('NTFS', () => {
  const files: NewFile[] = Array.from({ length: 3000 }, (_, i) => ({
    path: `/Shows/season ${i % 7}/${'deeper/'.repeat(i % 6)}a rather long name for cue ${i}.dat`,
    content: new Uint8Array(content((i * 731) % 12_000, i)),
    fragments: 1 + (i % 5),
    gap: i % 11,
  }))

  it.each([
    ['larger', 700],
    ['smaller', 60],
    ['as small as it goes', 34],
  ])('made %s is read by 7zip with every file', async (name, after) => {
    const source = new MemoryDevice(128 * MIB)
    await formatNtfs(source, { label: 'Shows', serial: 3n, startSector: 0, time: 1n, files })
    const other = await resized(source, after * MIB, `ntfs ${name}.img`)
    const digests = extractDigests(other, 'Shows', at(`ntfs ${name} out`))
    expect(digests.size).toBe(files.length)
    for (const file of files) {
      expect(digests.get(file.path.slice(1))).toBe(sumOf((file as { content: Uint8Array }).content))
    }
  })
})
