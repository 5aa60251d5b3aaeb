import { execFileSync } from 'node:child_process'
import {
  appendFileSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  symlinkSync,
  truncateSync,
  writeFileSync,
} from 'node:fs'
import { tmpdir } from 'node:os'
import path from 'node:path'
import { deflateRawSync } from 'node:zlib'
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest'
import { TARGET_KINDS, type TargetKind } from '@/core/image'
import { compareDevices } from '@/core/image/compare'
import { HEADER as QCOW2 } from '@/core/image/qcow2-layout'
import { checksumOf, FOOTER, HEADER as VHD_HEADER, LOCATOR } from '@/core/image/vhd-layout'
import {
  chunkRatio,
  HEADER as VHDX,
  ITEMS,
  LOCATOR_ENTRY,
  LOCATOR_HEADER,
  LOG_DATA,
  LOG_DESCRIPTOR,
  LOG_ENTRY,
  METADATA_ENTRY,
} from '@/core/image/vhdx-layout'
import { crc32c } from '@/core/bytes/crc32'
import { noise } from '@/bench/random'
import { deep, pattern } from '@/core/testing'
import { convertFile } from '@/host/convert'
import { openHostImage } from '@/host/images'
import { diskDigest, mountedDigest, digestOfFile, sparseFile } from './support/image-files'

const MIB = 1024 * 1024
const SIZE = 130 * MIB + 4096 * 3
let folder: string
let source: string
let count = 0
const at = (name: string) => path.join(folder, name)
const fresh = (extension: string) => at(`made-${++count}.${extension}`)

beforeAll(() => {
  folder = mkdtempSync(path.join(tmpdir(), 'imbarco-images-'))
  source = sparseFile(at('source.img'), SIZE, [
    [0, pattern(70_000, 1)],
    [5 * MIB - 512, pattern(2 * MIB, 2)],
    [64 * MIB + 65_536, pattern(1024, 3)],
    [SIZE - 700, pattern(700, 4)],
  ])
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

/** How often each host cluster of a QCOW2 is used, as the image says. */
function usesOf(file: string): number[] {
  const bytes = readFileSync(file)
  const view = new DataView(bytes.buffer, bytes.byteOffset)
  const block = Number(view.getBigUint64(Number(view.getBigUint64(48))))
  return Array.from({ length: bytes.length / 65536 }, (_, i) => view.getUint16(block + i * 2))
}

/** The same, counted by following its tables as the published layout says. */
function countedUses(file: string): number[] {
  const bytes = readFileSync(file)
  const view = new DataView(bytes.buffer, bytes.byteOffset)
  const uses = Array.from({ length: bytes.length / 65536 }, () => 0)
  const entryAt = (at: number, i: number) => view.getBigUint64(at + i * 8)
  const offset = (entry: bigint) => Number(entry & 0x00fffffffffffe00n)
  const count = (at: number) => uses[Math.floor(at / 65536)]++
  const root = Number(view.getBigUint64(48))
  const l1 = Number(view.getBigUint64(40))
  for (const at of [0, root, Number(view.getBigUint64(root)), l1]) count(at)
  for (let i = 0; i < view.getUint32(36); i++) {
    const l2 = offset(entryAt(l1, i))
    if (l2 === 0) continue
    count(l2)
    for (let j = 0; j < 8192; j++) {
      const entry = entryAt(l2, j)
      if ((entry & (1n << 62n)) === 0n) {
        if (offset(entry) > 0) count(offset(entry))
        continue
      }
      const start = Number(entry & ((1n << 54n) - 1n))
      const sectors = Number((entry >> 54n) & 0xffn)
      const end = (Math.floor(start / 512) + sectors) * 512
      for (let at = Math.floor(start / 65536); at <= Math.floor(end / 65536); at++) uses[at]++
    }
  }
  return uses
}

const options = { time: Date.UTC(2026, 4, 4) }
const convert = (input: string, output: string, to: TargetKind) => convertFile(input, output, { ...options, to })

/** What 7zip calls a format. */
const typeOf = (to: TargetKind) =>
  to.startsWith('qcow2') ? 'qcow' : to.startsWith('vmdk') ? 'vmdk' : to === 'vhdx' ? 'vhdx' : 'vhd'

async function same(a: string, b: string): Promise<void> {
  const [left, right] = [await openHostImage(a), await openHostImage(b)]
  try {
    const { equal, firstDifference } = await compareDevices(left.device, right.device)
    expect([equal, firstDifference]).toEqual([true, null])
  } finally {
    await left.close()
    await right.close()
  }
}

async function read(file: string, offset: number, length: number): Promise<Uint8Array> {
  const image = await openHostImage(file)
  try {
    const bytes = new Uint8Array(length)
    await image.device.read(offset, bytes)
    return bytes
  } finally {
    await image.close()
  }
}

function patch(file: string, change: (bytes: Buffer) => Buffer | void): string {
  const bytes = readFileSync(file)
  writeFileSync(file, change(bytes) ?? bytes)
  return file
}

describe('an image that was written', () => {
  it.each(TARGET_KINDS)('as %s holds the disk, and takes no more room than what is used', async (to) => {
    const made = fresh(to)
    const result = await convert(source, made, to)
    expect(result.virtualBytes).toBe(SIZE)
    await same(source, made)
    expect(statSync(made).blocks * 512).toBeLessThan(8 * MIB)
    if (to === 'raw') return expect(digestOfFile(made)).toBe(digestOfFile(source))
    if (to !== 'vhd-fixed') expect(result.fileBytes).toBeLessThan(14 * MIB)
    // The reader shares no code with Imbarco.
    const type = typeOf(to)
    expect(diskDigest(made, type)).toBe(digestOfFile(source))
    expect(execFileSync('7zz', ['t', `-t${type}`, made], { encoding: 'utf8' })).toMatch(/Everything is Ok/)
    if (existsSync('/dev/fuse')) expect(mountedDigest(made, type)).toBe(digestOfFile(source))
  })

  it.each(TARGET_KINDS)('as %s leads to every other format and back', async (to) => {
    const first = fresh(to)
    await convert(source, first, to)
    // Each is read and each is written; every pair of them takes long.
    const at = TARGET_KINDS.indexOf(to)
    for (const next of deep ? TARGET_KINDS : [TARGET_KINDS[(at + 1) % TARGET_KINDS.length], 'raw' as const]) {
      const second = fresh(next)
      await convert(first, second, next)
      await same(source, second)
      rmSync(second)
    }
  })

  it.each(TARGET_KINDS)('as %s keeps a size that is no round number of anything', async (to) => {
    const odd = sparseFile(at('odd.img'), 5 * MIB + 512 * 7, [[5 * MIB + 512 * 6, pattern(512, 5)]])
    const made = fresh(to)
    expect((await convert(odd, made, to)).virtualBytes).toBe(5 * MIB + 512 * 7)
    await same(odd, made)
  })

  it('as QCOW2 packs what gets shorter, keeps what does not as it is, and says how often each cluster is used', async () => {
    // Clusters that pack to next to nothing, to some kilobytes, and not at all, in turns and runs of them.
    const parts = Array.from({ length: 90 }, (_, i): [number, Uint8Array] => {
      const text = new Uint8Array(65536).fill(32 + i)
      const half = new Uint8Array(65536)
      half.set(noise(9000 + i * 40, i + 1))
      return [(i + Math.floor(i / 5)) * 65536, [text, half, noise(65536, i + 1)][i % 7 < 3 ? i % 3 : (i + 1) % 2]]
    })
    const mixed = sparseFile(at('mixed.img'), 16 * MIB, parts)
    const made = fresh('qcow2')
    const plain = fresh('qcow2')
    await convert(mixed, made, 'qcow2-packed')
    await convert(mixed, plain, 'qcow2')
    await same(mixed, made)
    expect(diskDigest(made, 'qcow')).toBe(digestOfFile(mixed))
    expect(statSync(made).size).toBeLessThan(statSync(plain).size / 2)
    expect(usesOf(made)).toEqual(countedUses(made))
  })

  it('appears only when it is whole, and never takes the place of another file', async () => {
    const made = fresh('qcow2')
    const abort = new AbortController()
    const stopped = convertFile(source, made, {
      ...options,
      to: 'qcow2',
      signal: abort.signal,
      onProgress: () => abort.abort(new Error('stopped')),
    })
    await expect(stopped).rejects.toThrow(/stopped/)
    expect(readdirSync(folder).filter((name) => name.includes('partial') || name === path.basename(made))).toEqual([])
    writeFileSync(made, 'a letter')
    await expect(convert(source, made, 'qcow2')).rejects.toThrow(/there already/)
    expect(readFileSync(made, 'utf8')).toBe('a letter')
  })

  it('as VHD is refused beyond what a VHD can hold', async () => {
    const large = sparseFile(at('large.img'), 3 * 1024 ** 4, [])
    await expect(convert(large, fresh('vhd'), 'vhd')).rejects.toThrow(/Choose VHDX/)
    const made = fresh('vhdx')
    await convert(large, made, 'vhdx')
    expect(statSync(made).size).toBeLessThan(32 * MIB)
  })
})

describe('a packed raw image', () => {
  it.each([
    ['gzip', ['-k', '-c']],
    ['zstd', ['-q', '-c']],
  ] as const)('in %s becomes an image in one pass', async (program, args) => {
    const packed = at(`source.${program}`)
    writeFileSync(packed, execFileSync(program, [...args, source], { maxBuffer: 512 * MIB }))
    // What is unpacked is written as any other image is.
    for (const to of deep ? TARGET_KINDS : (['raw', 'vhdx'] as const)) {
      const made = fresh(to)
      expect((await convert(packed, made, to)).virtualBytes).toBe(SIZE)
      await same(source, made)
      if (to === 'qcow2' || to === 'vhdx' || to === 'vhd') {
        expect(diskDigest(made, typeOf(to))).toBe(digestOfFile(source))
      }
    }
    truncateSync(packed, Math.floor(statSync(packed).size / 2))
    await expect(convert(packed, fresh('img'), 'raw')).rejects.toThrow(/cannot be unpacked/)
    await expect(openHostImage(packed)).rejects.toThrow(/packed with/)
  })
})

describe('QCOW2', () => {
  /** A version 2 image of four clusters: packed, plain, absent, absent; `pack` packs one. */
  function handMade(
    name: string,
    pack: (bytes: Uint8Array) => Uint8Array,
    extra: (header: Uint8Array) => void,
    backing = '',
  ): string {
    const cluster = 65_536
    const bytes = new Uint8Array(cluster * 5)
    QCOW2.write(bytes, {
      magic: 0x514649fb,
      version: 2,
      clusterBits: 16,
      size: cluster * 4,
      l1Size: 1,
      l1Offset: cluster,
      refcountOffset: cluster * 4,
      refcountClusters: 1,
    })
    if (backing) {
      QCOW2.write(bytes, { backingOffset: 1024, backingLength: backing.length })
      bytes.set(Buffer.from(backing), 1024)
    }
    extra(bytes)
    const view = new DataView(bytes.buffer)
    view.setBigUint64(cluster, BigInt(cluster * 2))
    const packed = pack(pattern(cluster, 9))
    // Packed data may begin anywhere; the entry counts the sectors behind its first.
    const place = cluster * 3 + 100
    bytes.set(packed, place)
    const sectors = Math.ceil(((place % 512) + packed.length) / 512) - 1
    view.setBigUint64(cluster * 2, (1n << 62n) | (BigInt(sectors) << 54n) | BigInt(place))
    bytes.set(pattern(cluster, 10), cluster * 4)
    view.setBigUint64(cluster * 2 + 8, BigInt(cluster * 4))
    writeFileSync(at(name), bytes)
    return at(name)
  }
  const deflate = (bytes: Uint8Array) => deflateRawSync(bytes, { windowBits: 12 })

  it('of version 2 with packed clusters is read', async () => {
    const file = handMade('v2.qcow2', deflate, () => undefined)
    expect(await read(file, 0, 65_536)).toEqual(pattern(65_536, 9))
    expect(await read(file, 65_536, 65_536)).toEqual(pattern(65_536, 10))
    expect((await read(file, 131_072, 131_072)).every((b) => b === 0)).toBe(true)
    expect(execFileSync('7zz', ['x', '-so', '-tqcow', file]).subarray(0, 65_536)).toEqual(
      Buffer.from(pattern(65_536, 9)),
    )
  })

  it('of version 3 with clusters packed by zstd is read', async () => {
    const zstd = (bytes: Uint8Array) => execFileSync('zstd', ['-q', '-c'], { input: bytes })
    const file = handMade('v3.qcow2', zstd, (b) => {
      QCOW2.write(b, { version: 3, incompatible: 8n, refcountOrder: 4, headerLength: 112 })
      b[104] = 1
    })
    expect(await read(file, 0, 65_536)).toEqual(pattern(65_536, 9))
  })

  it('with a backing file reads what it does not hold from there, and no file outside its folder', async () => {
    sparseFile(at('base.img'), 200_704, [[131_072, pattern(69_632, 11)]])
    const file = handMade('child.qcow2', deflate, () => undefined, 'base.img')
    expect(await read(file, 131_072, 65_536)).toEqual(pattern(69_632, 11).subarray(0, 65_536))
    // What lies behind the end of the smaller base is zeros.
    const tail = await read(file, 196_608, 65_536)
    expect([tail[4095], tail[4096]]).toEqual([pattern(69_632, 11)[69_631], 0])
    await expect(
      openHostImage(handMade('out.qcow2', deflate, () => undefined, '../../../../etc/hostname')),
    ).rejects.toThrow(/outside|not in its folder/)
    mkdirSync(at('inner'))
    symlinkSync('/etc/hostname', at('leak.img'))
    await expect(openHostImage(handMade('link.qcow2', deflate, () => undefined, 'leak.img'))).rejects.toThrow(/outside/)
    await expect(openHostImage(handMade('self.qcow2', deflate, () => undefined, 'self.qcow2'))).rejects.toThrow(
      /builds on itself/,
    )
    await expect(openHostImage(handMade('lost.qcow2', deflate, () => undefined, 'nowhere.img'))).rejects.toThrow(
      /not in its folder/,
    )
  })

  it.each([
    ['encrypted clusters', { encryption: 1 }, /encrypted/],
    ['data in another file', { version: 3, incompatible: 4n, headerLength: 104 }, /another file/],
    ['a feature of the future', { version: 3, incompatible: 1n << 40n, headerLength: 104 }, /not known/],
    ['a version of the future', { version: 7 }, /version 7/],
    ['too large clusters', { clusterBits: 30 }, /clusters of 2\^30/],
  ])('with %s is refused in a sentence', async (_what, values, sentence) => {
    const file = handMade('odd.qcow2', deflate, (b) => QCOW2.write(b, values))
    await expect(openHostImage(file)).rejects.toThrow(sentence)
  })
})

describe('VHD', () => {
  it('without its footer is opened by the copy at its start, which is told', async () => {
    const made = fresh('vhd')
    await convert(source, made, 'vhd')
    truncateSync(made, statSync(made).size - 512)
    const image = await openHostImage(made)
    expect(image.findings.map((f) => f.code)).toEqual(['image.vhd-footer-lost'])
    await image.close()
    await same(source, made)
  })

  it('that differs from a parent takes sectors from either', async () => {
    const parent = at('parent.vhd')
    await convert(source, parent, 'vhd')
    const footer = FOOTER.read(readFileSync(parent).subarray(0, 512))
    const child = at('child.vhd')
    writeDifferencing(child, footer.uuid, 'parent.vhd')
    // Sector 3 of the first block is the child's, its neighbours the parent's.
    const bytes = await read(child, 0, 4096)
    expect(bytes.subarray(1536, 2048)).toEqual(pattern(512, 20))
    expect(bytes.subarray(0, 1536)).toEqual(pattern(70_000, 1).subarray(0, 1536))
    expect(await read(child, 64 * MIB + 65_536, 1024)).toEqual(pattern(1024, 3))
    // Another disk of the same name is not taken for the parent.
    rmSync(parent)
    await convert(source, parent, 'vhd')
    await expect(openHostImage(child)).rejects.toThrow(/not the one it was made from/)
    rmSync(parent)
    await expect(openHostImage(child)).rejects.toThrow(/parent\.vhd, which is not in its folder/)
  })

  function writeDifferencing(file: string, parentUuid: string, parentName: string): void {
    const table = 2048
    const block = 4096
    const locatorAt = 3072
    const bytes = new Uint8Array(block + 512 + 2 * MIB)
    const footer = new Uint8Array(512)
    FOOTER.write(footer, {
      cookie: 'conectix',
      features: 2,
      version: 0x10000,
      dataOffset: 512n,
      currentSize: SIZE,
      originalSize: SIZE,
      type: 4,
      uuid: '00000000-0000-4000-8000-00000000aaaa',
    })
    FOOTER.write(footer, { checksum: checksumOf(footer, 64) })
    const header = new Uint8Array(1024)
    VHD_HEADER.write(header, {
      cookie: 'cxsparse',
      dataOffset: 0xffffffffffffffffn,
      tableOffset: table,
      version: 0x10000,
      tableEntries: 66,
      blockSize: 2 * MIB,
      parentUuid,
    })
    const name = Buffer.from(`.\\${parentName}`, 'utf16le')
    LOCATOR.write(header, { code: 'W2ru', space: 512, length: name.length, offset: locatorAt }, 576)
    VHD_HEADER.write(header, { checksum: checksumOf(header, 36) })
    bytes.set(footer)
    bytes.set(header, 512)
    bytes.fill(0xff, table, table + 66 * 4)
    new DataView(bytes.buffer).setUint32(table, block / 512)
    bytes.set(name, locatorAt)
    bytes[block] = 0x10
    bytes.set(pattern(512, 20), block + 512 + 1536)
    writeFileSync(file, Buffer.concat([bytes, footer]))
  }
})

describe('VHDX', () => {
  let made: string
  beforeEach(async () => {
    made = fresh('vhdx')
    await convert(source, made, 'vhdx')
  })

  it('with one header and one region table damaged is read by the others', async () => {
    patch(made, (b) => void (b.fill(7, 131_072, 131_172), b.fill(7, 196_608, 196_708)))
    const image = await openHostImage(made)
    expect(image.findings.map((f) => f.code)).toEqual(['image.vhdx-header', 'image.vhdx-regions'])
    await image.close()
    await same(source, made)
    patch(made, (b) => void b.fill(7, 65_536, 65_636))
    await expect(openHostImage(made)).rejects.toThrow(/neither of the two holds/)
  })

  it('that was not closed is read with the changes of its log, and left as it is', async () => {
    const logGuid = '12345678-1234-4234-8234-123456789abc'
    const place = 4 * MIB
    patch(made, (bytes) => {
      for (const at of [65_536, 131_072]) {
        VHDX.write(bytes, { logGuid, checksum: 0 }, at)
        VHDX.write(bytes, { checksum: crc32c(bytes.subarray(at, at + 4096)) }, at)
      }
      // Two entries: the first clears a page, the second writes one over it, which is what counts.
      const log = MIB
      const data = pattern(4096, 30)
      for (const [i, kind] of (['zero', 'desc'] as const).entries()) {
        const at = log + i * 8192
        const sequence = BigInt(5 + i)
        LOG_ENTRY.write(
          bytes,
          {
            signature: 'loge',
            checksum: 0,
            length: 8192,
            tail: 0,
            sequence,
            count: 1,
            logGuid,
            flushedFileOffset: bytes.length,
            lastFileOffset: bytes.length,
          },
          at,
        )
        const leading = kind === 'zero' ? Uint8Array.of(0, 16, 0, 0, 0, 0, 0, 0) : data.subarray(0, 8)
        LOG_DESCRIPTOR.write(
          bytes,
          { signature: kind, trailing: data.subarray(4092), leading, offset: place, sequence },
          at + 64,
        )
        LOG_DATA.write(
          bytes,
          { signature: 'data', sequenceHigh: 0, data: data.subarray(8, 4092), sequenceLow: Number(sequence) },
          at + 4096,
        )
        LOG_ENTRY.write(bytes, { checksum: crc32c(bytes.subarray(at, at + 8192)) }, at)
      }
    })
    const before = digestOfFile(made)
    const image = await openHostImage(made)
    expect(image.findings.map((f) => f.code)).toEqual(['image.vhdx-log-replayed'])
    // The first payload block lies behind the table of blocks.
    const bytes = new Uint8Array(4096)
    await image.device.read(0, bytes)
    expect(bytes).toEqual(pattern(4096, 30))
    await image.close()
    expect(digestOfFile(made)).toBe(before)
    // A log without one whole sequence cannot be played, and the image is not believed.
    patch(made, (b) => void ((b[MIB + 100] ^= 1), (b[MIB + 8192 + 100] ^= 1)))
    await expect(openHostImage(made)).rejects.toThrow(/no sequence that is whole/)
  })
})

describe('VHDX that differs from a parent', () => {
  const TABLE_AT = 3 * MIB
  const METADATA_AT = 2 * MIB

  it('takes whole blocks, single sectors or nothing from itself, and the rest from the parent', async () => {
    const parent = at('base.vhdx')
    await convert(source, parent, 'vhdx')
    const linkage = VHDX.read(readFileSync(parent), 131_072).dataWriteGuid
    // The child begins as an image of its own: block 0 and block 5 hold something.
    const other = sparseFile(at('other.img'), SIZE, [
      [0, pattern(MIB, 40)],
      [5 * MIB, pattern(MIB, 41)],
    ])
    const child = at('child.vhdx')
    await convert(other, child, 'vhdx')
    const makeChild = (parentName: string, expected: string) =>
      patch(child, (bytes) => {
        const view = new DataView(bytes.buffer, bytes.byteOffset)
        const items = METADATA_AT + 65_536
        bytes[items + 4] |= 2
        const locator = parentLocator({ parent_linkage: `{${expected}}`, relative_path: `.\\${parentName}` })
        METADATA_ENTRY.write(
          bytes,
          { id: ITEMS.parentLocator, offset: 65_536 + 4096, length: locator.length, flags: 4 },
          METADATA_AT + 32 + 5 * 32,
        )
        bytes[METADATA_AT + 10] = 6
        bytes.set(locator, items + 4096)
        // Of block 5 this file holds the second sector only; a bitmap of its chunk says so.
        const ratio = chunkRatio(MIB, 512)
        const entry = TABLE_AT + 5 * 8
        view.setBigUint64(entry, (view.getBigUint64(entry, true) & ~7n) | 7n, true)
        const bitmapAt = Math.ceil(statSync(child).size / MIB) * MIB
        view.setBigUint64(TABLE_AT + ratio * 8, (BigInt(bitmapAt / MIB) << 20n) | 6n, true)
        const grown = Buffer.alloc(bitmapAt + MIB)
        bytes.copy(grown)
        const bit = (5 * MIB) / 512 + 1
        grown[bitmapAt + (bit >> 3)] |= 1 << (bit & 7)
        return grown
      })
    makeChild('base.vhdx', linkage)
    const image = await openHostImage(child)
    expect([image.name, image.parent]).toEqual(['VHDX, differencing', '.\\base.vhdx'])
    await image.close()
    expect(await read(child, 0, 4096)).toEqual(pattern(MIB, 40).subarray(0, 4096))
    const mixed = await read(child, 5 * MIB, 1536)
    const below = await read(source, 5 * MIB, 1536)
    expect(mixed.subarray(0, 512)).toEqual(below.subarray(0, 512))
    expect(mixed.subarray(512, 1024)).toEqual(pattern(MIB, 41).subarray(512, 1024))
    expect(mixed.subarray(1024)).toEqual(below.subarray(1024))
    expect(await read(child, 64 * MIB + 65_536, 1024)).toEqual(pattern(1024, 3))
    // A parent that was written to since is another disk.
    patch(parent, (bytes) => {
      for (const place of [65_536, 131_072]) {
        VHDX.write(bytes, { dataWriteGuid: '99999999-0000-4000-8000-000000000000', checksum: 0 }, place)
        VHDX.write(bytes, { checksum: crc32c(bytes.subarray(place, place + 4096)) }, place)
      }
    })
    await expect(openHostImage(child)).rejects.toThrow(/was changed since/)
  })

  function parentLocator(values: Record<string, string>): Uint8Array {
    const bytes = new Uint8Array(1024)
    LOCATOR_HEADER.write(bytes, { type: 'b04aefb7-d19e-4a81-b789-25b8e9445913', count: Object.keys(values).length })
    let place = 200
    Object.entries(values).forEach(([key, value], i) => {
      const [k, v] = [Buffer.from(key, 'utf16le'), Buffer.from(value, 'utf16le')]
      LOCATOR_ENTRY.write(
        bytes,
        { keyOffset: place, valueOffset: place + k.length, keyLength: k.length, valueLength: v.length },
        20 + i * 12,
      )
      bytes.set(k, place)
      bytes.set(v, place + k.length)
      place += k.length + v.length
    })
    return bytes
  }
})

describe('an image that changes while it is read', () => {
  it('is told, and nothing is made of it', async () => {
    const file = sparseFile(at('changing.img'), 40 * MIB, [[0, pattern(20 * MIB, 6)]])
    const made = fresh('qcow2')
    let touched = false
    const converting = convertFile(file, made, {
      ...options,
      to: 'qcow2',
      onProgress: () => {
        if (!touched) appendFileSync(file, 'more')
        touched = true
      },
    })
    await expect(converting).rejects.toThrow(/was changed while it was read/)
    expect(readdirSync(folder).filter((name) => name.includes(path.basename(made)))).toEqual([])
    const image = await openHostImage(file)
    expect(await image.changed()).toBe(false)
    truncateSync(file, 30 * MIB)
    expect(await image.changed()).toBe(true)
    // What is no longer there is told in a sentence.
    await expect(image.device.read(39 * MIB, new Uint8Array(512))).rejects.toThrow(/the file ends there/)
    await image.close()
  })
})

describe('a file that is no whole image', () => {
  it.each([
    ['empty', 0, /less than a sector/],
    ['of a few bytes', 100, /less than a sector/],
  ])('%s is refused in a sentence', async (_what, length, sentence) => {
    await expect(openHostImage(sparseFile(at('short.img'), length, []))).rejects.toThrow(sentence)
  })

  it('a folder, a name that is not there, a part of a sector', async () => {
    await expect(openHostImage(folder)).rejects.toThrow(/not a file/)
    await expect(openHostImage(at('nothing.img'))).rejects.toThrow(/There is no such file/)
    const image = await openHostImage(sparseFile(at('ragged.img'), 10_300, []))
    expect([image.virtualBytes, image.findings[0].code]).toEqual([10_240, 'image.ragged'])
    await image.close()
  })
})
