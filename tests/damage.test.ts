import { execFileSync } from 'node:child_process'
import { createHash } from 'node:crypto'
import { mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import fc from 'fast-check'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { BlockDevice } from '@/core/block/device'
import { MemoryDevice } from '@/core/block/memory'
import { OverlayDevice } from '@/core/block/overlay'
import { SliceDevice } from '@/core/block/slice'
import { CoreError } from '@/core/errors'
import { openFileSystem } from '@/core/filesystem'
import { formatFat32 } from '@/core/filesystem/fat/format'
import { formatHfsPlus } from '@/core/filesystem/hfsplus/format'
import { formatNtfs } from '@/core/filesystem/ntfs/format'
import { formatBitLocker } from '@/core/filesystem/sealed/bitlocker-format'
import { LUKS_HEADER } from '@/core/filesystem/sealed/luks'
import { LVM_LABEL } from '@/core/filesystem/sealed/lvm'
import { type ImageFile, openImage, TARGET_KINDS, TARGETS } from '@/core/image'
import { MemoryStore } from '@/core/image/testing-store'
import { Hive } from '@/core/registry/hive'
import { makeHive } from '@/core/registry/make'
import { writeGpt } from '@/core/scheme/gpt'
import { mbrWrites } from '@/core/scheme/mbr-write'
import { TYPE_GUIDS } from '@/core/scheme/types'
import { surveyDrive } from '@/core/survey/survey'
import { packGrain } from '@/host/packed'
import { pattern, runsOf } from '@/core/testing'
import { openHostImage } from '@/host/images'
import { sparseFile } from './support/image-files'

// Whatever a structure is damaged into, there is a finding or one sentence, soon, and never a crash.

const MIB = 1024 * 1024
const RUNS = runsOf(120, 2000)
/** Far above what any of them takes; a loop that does not end would pass it. */
const LIMIT_MS = 2000
const sha256 = (bytes: Uint8Array): Uint8Array => createHash('sha256').update(bytes).digest()
let folder: string

beforeAll(() => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-damage-'))
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

/** One change: at which of the bytes that matter, and what is put there. */
interface Change {
  readonly place: number
  readonly bytes: Uint8Array
}

const bytes = fc.oneof(
  fc.uint8Array({ minLength: 1, maxLength: 4 }),
  // What lies is mostly a number: none, all, the largest of either sign, small ones.
  fc
    .constantFrom(
      [0, 0, 0, 0],
      [255, 255, 255, 255],
      [255, 255, 255, 127],
      [0, 0, 0, 128],
      [1, 0, 0, 0],
      [0, 0, 0, 1],
      [255, 255, 255, 255, 255, 255, 255, 127],
      [0, 0, 0, 0, 0, 0, 0, 0],
    )
    .map((list) => Uint8Array.from(list)),
)
const changes = fc.array(fc.record({ place: fc.nat(), bytes }), { minLength: 1, maxLength: 6 })

/** Offsets of all stretches of 16 bytes that hold something. */
async function placesThatMatter(device: BlockDevice): Promise<number[]> {
  const places: number[] = []
  for (const { offset, length } of await device.mapped!(0, device.size)) {
    const content = new Uint8Array(length)
    await device.read(offset, content)
    for (let at = 0; at < length; at += 16) if (content.subarray(at, at + 16).some(Boolean)) places.push(offset + at)
  }
  return places
}

async function damaged(base: BlockDevice, places: readonly number[], list: readonly Change[]): Promise<BlockDevice> {
  const device = new OverlayDevice(base)
  for (const { place, bytes: put } of list) {
    const at = places[place % places.length] + (place % 16)
    const sector = new Uint8Array(1024)
    const start = Math.min(Math.floor(at / 512) * 512, base.size - 1024)
    await device.read(start, sector)
    sector.set(put.subarray(0, 1024 - (at - start)), at - start)
    await device.write(start, sector)
  }
  return device
}

/** Everything that a survey and a look at the files would read. */
async function lookThrough(device: BlockDevice): Promise<void> {
  const survey = await surveyDrive(device, sha256)
  for (const { startBytes, sizeBytes } of survey.partitions) {
    try {
      const size = Math.min(sizeBytes, device.size - startBytes)
      if (size <= 0) continue
      const volume = await openFileSystem(new SliceDevice(device, startBytes, size))
      for (const entry of (await volume?.list('/')) ?? []) {
        if (entry.kind === 'directory') await volume!.list(entry.path)
        else if (entry.kind === 'file') {
          await volume!.readFile(entry.path, 0, 100_000)
          await volume!.fileExtents?.(entry.path)
        }
      }
    } catch (error) {
      if (!(error instanceof CoreError)) throw error
    }
  }
}

async function timed(work: () => Promise<void>): Promise<void> {
  const start = performance.now()
  await work()
  expect(performance.now() - start).toBeLessThan(LIMIT_MS)
}

async function loaded(file: string): Promise<MemoryDevice> {
  const image = await openHostImage(file, { sectorSize: 512 })
  const device = new MemoryDevice(image.device.size)
  for (const { offset, length } of (await image.device.mapped?.(0, image.device.size)) ?? [
    { offset: 0, length: image.device.size },
  ]) {
    const content = new Uint8Array(length)
    await image.device.read(offset, content)
    await device.write(offset, content)
  }
  await image.close()
  return device
}

const FILES = [
  { path: '/hello.txt', content: pattern(300, 1) },
  { path: '/dir/long.bin', content: pattern(40_000, 2) },
  { path: '/spread.bin', unwrittenBytes: 300_000, fragments: 9 },
]

async function memory(mib: number, fill: (device: MemoryDevice) => Promise<void>): Promise<MemoryDevice> {
  const device = new MemoryDevice(mib * MIB)
  await fill(device)
  return device
}

function tool(name: string, mib: number, program: string, ...args: string[]): Promise<MemoryDevice> {
  const file = sparseFile(path.join(folder, `${name}.img`), mib * MIB, [])
  const env = { ...process.env, PATH: `${process.env.PATH}:/usr/sbin:/sbin` }
  execFileSync(program, [...args, file], { env, stdio: 'pipe' })
  return loaded(file)
}

function tree(): string {
  const at = path.join(folder, 'tree')
  execFileSync('mkdir', ['-p', path.join(at, 'dir')])
  writeFileSync(path.join(at, 'hello.txt'), pattern(300, 1))
  writeFileSync(path.join(at, 'dir', 'long.bin'), pattern(200_000, 2))
  return at
}

const PARTITION = { guid: '11111111-2222-4333-8444-555555555502', name: 'x', attributes: '0'.repeat(16) }

const DISKS: Record<string, () => Promise<MemoryDevice>> = {
  gpt: () =>
    memory(8, (d) =>
      writeGpt(d, {
        diskGuid: '91f0c1d2-1111-4222-8333-4444555533c7',
        entryCount: 128,
        entrySize: 128,
        partitions: [1, 2, 3].map((number) => ({
          ...PARTITION,
          number,
          typeGuid: TYPE_GUIDS.basicData,
          firstLba: number * 2048,
          lastLba: number * 2048 + 2047,
        })),
      }),
    ),
  mbr: () =>
    memory(8, async (d) => {
      const logical = [4, 6, 8].map((i) => ({ type: 7, recordLba: i * 1024, firstLba: i * 1024 + 64, sectors: 900 }))
      const table = {
        diskSignature: '7b3f0c11',
        primary: [{ type: 7, firstLba: 63, sectors: 2000 }],
        extended: { firstLba: 4096, sectors: 8192, logical },
      }
      for (const { offset, bytes: sector } of mbrWrites(table, 512)) await d.write(offset, sector)
    }),
  ntfs: () => memory(12, (d) => formatNtfs(d, { label: 'x', serial: 1n, startSector: 0, time: 1n, files: FILES })),
  fat12: () => tool('fat12', 2, 'mkfs.fat', '-F', '12'),
  fat16: () => tool('fat16', 16, 'mkfs.fat', '-F', '16', '-n', 'QUAY'),
  fat32: () => memory(40, (d) => formatFat32(d, { label: 'x', serial: 1, startSector: 0, files: FILES.slice(0, 2) })),
  exfat: () => tool('exfat', 8, 'mkfs.exfat', '-L', 'Harbour'),
  ext2: () => tool('ext2', 4, 'mke2fs', '-q', '-t', 'ext2', '-d', tree()),
  ext3: () => tool('ext3', 8, 'mke2fs', '-q', '-t', 'ext3', '-J', 'size=1', '-d', tree()),
  ext4: () => tool('ext4', 8, 'mke2fs', '-q', '-t', 'ext4', '-O', '^has_journal', '-d', tree()),
  hfsplus: () => memory(8, (d) => formatHfsPlus(d, { label: 'x', volumeId: 1n, time: 1, files: FILES })),
  apfs: () => tool('apfs', 600, 'mkapfs', '-L', 'Regatta'),
  swap: () => tool('swap', 4, 'mkswap'),
  lvm: () =>
    memory(4, async (d) => {
      const sector = new Uint8Array(512)
      LVM_LABEL.write(sector, { id: 'LABELONE', sector: 1, contentOffset: 32, type: 'LVM2 001' })
      await d.write(512, sector)
    }),
  luks: () =>
    memory(4, async (d) => {
      const sector = new Uint8Array(512)
      const magic = Uint8Array.of(0x4c, 0x55, 0x4b, 0x53, 0xba, 0xbe)
      LUKS_HEADER.write(sector, { magic, version: 2, label: 'wax', uuid: PARTITION.guid })
      await d.write(0, sector)
    }),
  bitlocker: () =>
    memory(120, (d) => formatBitLocker(d, { description: 'x', volumeGuid: PARTITION.guid, created: 1n })),
}

describe('damage of what is on a disk', () => {
  it.each(Object.keys(DISKS))('%s', async (kind) => {
    const base = await DISKS[kind]()
    const places = await placesThatMatter(base)
    await lookThrough(base)
    await fc.assert(
      fc.asyncProperty(changes, async (list) => {
        const device = await damaged(base, places, list)
        await timed(() => lookThrough(device))
      }),
      { numRuns: RUNS },
    )
    // Cut short anywhere.
    await fc.assert(
      fc.asyncProperty(fc.integer({ min: 1, max: base.size / 512 }), async (sectors) => {
        await timed(() => lookThrough(new SliceDevice(base, 0, sectors * 512)))
      }),
      { numRuns: 200 },
    )
  })

  it('of anything at all: noise in the first sectors', async () => {
    await fc.assert(
      fc.asyncProperty(fc.uint8Array({ minLength: 4096, maxLength: 4096 }), fc.boolean(), async (noise, signed) => {
        const device = new MemoryDevice(4 * MIB)
        if (signed) noise.set([0x55, 0xaa], 510)
        await device.write(0, noise)
        await timed(() => lookThrough(device))
      }),
      { numRuns: RUNS },
    )
  })
})

/** An image in memory, cut at `size`. */
function fileOf(content: Uint8Array, size = content.length): ImageFile {
  return {
    size,
    async read(offset, into) {
      if (offset + into.length > size) throw new CoreError('The file ends before.')
      into.set(content.subarray(offset, offset + into.length))
    },
  }
}

describe('damage of an image', () => {
  it.each(TARGET_KINDS.filter((kind) => kind !== 'raw'))('%s', async (kind) => {
    const disk = new MemoryDevice(9 * MIB)
    await disk.write(0, pattern(3 * MIB, 1))
    await disk.write(7 * MIB, pattern(65_536, 2))
    const store = new MemoryStore()
    const target = await TARGETS[kind].make(store, {
      virtualBytes: disk.size,
      sectorSize: 512,
      name: 'disk',
      time: 0,
      guid: () => PARTITION.guid,
      pack: packGrain,
    })
    await target.write(0, pattern(3 * MIB, 1))
    await target.write(7 * MIB, pattern(65_536, 2))
    await target.flush()
    await target.header?.finish()
    const whole = await store.bytes()
    const places: number[] = []
    // It repeats itself after 64 KiB, so that twice that has every line of it.
    const data = pattern(128 * 1024, 1)
    for (let at = 0; at < whole.length; at += 16) {
      const line = whole.subarray(at, at + 16)
      // The disk's own bytes are not the image's structures.
      if (line.some(Boolean) && Buffer.from(data.buffer).indexOf(line) < 0) places.push(at)
      if (places.length > 6000) break
    }
    const look = async (file: ImageFile) => {
      try {
        const image = await openImage(file, {
          openParent: async () => {
            throw new CoreError('There is no other image here.')
          },
        })
        const part = new Uint8Array(65_536)
        for (const offset of [0, 2 * MIB, 7 * MIB]) {
          if (offset + part.length <= image.device.size) await image.device.read(offset, part)
        }
        await image.device.mapped?.(0, Math.min(image.device.size, 1024 * MIB))
        await surveyDrive(image.device, sha256)
      } catch (error) {
        if (!(error instanceof CoreError)) throw error
      }
    }
    await fc.assert(
      fc.asyncProperty(changes, fc.boolean(), async (list, cut) => {
        const undo = list.map(({ place, bytes: put }) => {
          const at = places[place % places.length] + (place % 16)
          const before = whole.slice(at, at + put.length)
          whole.set(put.subarray(0, whole.length - at), at)
          return () => whole.set(before, at)
        })
        await timed(() => look(fileOf(whole, cut ? list[0].place % whole.length : whole.length)))
        for (const back of undo.reverse()) back()
      }),
      { numRuns: RUNS },
    )
  })
})

describe('damage of a registry hive', () => {
  it('is told in a sentence', async () => {
    const keys = Object.fromEntries(
      Array.from({ length: 40 }, (_, i) => [`Key${i}`, { values: { Name: `value ${i}`, Number: i } }]),
    )
    const base = makeHive('SOFTWARE', { keys: { Microsoft: { keys } } }, 1n)
    await fc.assert(
      fc.asyncProperty(changes, async (list) => {
        const hive = base.slice()
        for (const { place, bytes: put } of list)
          hive.set(put.subarray(0, hive.length - (place % hive.length)), place % hive.length)
        await timed(async () => {
          try {
            const opened = await Hive.open(async (offset, length) => hive.slice(offset, offset + length), hive.length)
            const key = await opened.key('Microsoft\\Key7')
            if (key) await opened.values(key)
          } catch (error) {
            if (!(error instanceof CoreError)) throw error
          }
        })
      }),
      { numRuns: RUNS },
    )
  })
})
