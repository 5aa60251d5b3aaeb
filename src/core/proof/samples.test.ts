import fc from 'fast-check'
import { beforeAll, describe, expect, it } from 'vitest'
import { FaultyDevice } from '../block/faulty'
import type { MemoryDevice } from '../block/memory'
import { SliceDevice } from '../block/slice'
import { GIB, MIB } from '../bytes/size'
import { openFileSystem, type FileSystem } from '../filesystem'
import { solveFit } from '../fit/solve'
import type { Layout } from '../fit/types'
import { surveyDrive } from '../survey/survey'
import { pattern } from '../testing'
import { makeSystemDisk, sha256 } from '../testing-disk'
import { fileDigest, SamplesSchema, takeSamples } from './samples'

const LARGE = '/Windows/large.bin'
const SMALL = '/Windows/small.bin'
const large = pattern(3 * MIB + 17, 5)
const small = pattern(700_001, 6)

let source: MemoryDevice
let layout: Layout

beforeAll(async () => {
  source = await makeSystemDisk({
    systemFiles: [
      { path: LARGE, content: large },
      { path: SMALL, content: small },
      { path: '/Windows/empty.txt', content: new Uint8Array() },
    ],
  })
  const fit = solveFit(await surveyDrive(source, sha256), { sizeBytes: 2 * GIB, logicalSectorSize: 512 })
  if (!fit.fits) throw new Error('it should fit')
  layout = fit.layout
})

/** A volume that holds one file, of these bytes. */
function holding(bytes: Uint8Array): FileSystem {
  const stat = async () => ({ name: 'f', path: '/f', kind: 'file' as const, sizeBytes: bytes.length })
  const openFile = async () => ({ read: async (at: number, length: number) => bytes.subarray(at, at + length) })
  return { stat, openFile } as unknown as FileSystem
}

describe('the digest of a sample file', () => {
  const digestOf = (bytes: Uint8Array) => fileDigest(holding(bytes), '/f', sha256)

  it('changes with any byte of a small file, and with its length', async () => {
    await fc.assert(
      fc.asyncProperty(fc.uint8Array({ minLength: 1, maxLength: 5000 }), fc.nat(), async (bytes, n) => {
        const other = bytes.slice()
        other[n % bytes.length] ^= 1
        expect(await digestOf(other)).not.toBe(await digestOf(bytes))
        expect(await digestOf(bytes.slice(0, -1))).not.toBe(await digestOf(bytes))
        expect(await digestOf(bytes.slice())).toBe(await digestOf(bytes))
      }),
    )
  })

  it('of a large one sees its first and last bytes, its length, and stretches between', async () => {
    const before = await digestOf(large)
    const changedAt = async (at: number) => {
      const other = large.slice()
      other[at] ^= 1
      return (await digestOf(other)) !== before
    }
    expect(await changedAt(0)).toBe(true)
    expect(await changedAt(large.length - 1)).toBe(true)
    expect(await digestOf(large.slice(0, -1))).not.toBe(before)
    // In no run of half a mebibyte does everything go unseen.
    for (let at = 0; at + MIB / 2 <= large.length; at += MIB / 2) {
      const other = large.slice()
      other.fill(0, at, at + MIB / 2)
      expect(await digestOf(other)).not.toBe(before)
    }
  })

  it('says that a file is missing', async () => {
    const nothing = { stat: async () => undefined } as unknown as FileSystem
    expect(await fileDigest(nothing, '/f', sha256)).toBe('missing')
  })
})

/** A failing drive that counts how often it did not give what was asked. */
class CountingFaulty extends FaultyDevice {
  failed = 0
  override async read(offset: number, into: Uint8Array): Promise<void> {
    await super.read(offset, into).catch((error: unknown) => {
      this.failed++
      throw error
    })
  }
}

describe('samples', () => {
  it('are of every volume whose files are seen, and the same each time', async () => {
    const samples = await takeSamples(source, layout, [], sha256)
    expect(SamplesSchema.parse(samples)).toEqual(samples)
    expect(await takeSamples(source, layout, [], sha256)).toEqual(samples)
    const system = samples.find((v) => v.partition === 3)!
    expect(system.files.map((f) => f.path)).toEqual(expect.arrayContaining([LARGE, SMALL, '/Windows/empty.txt']))
    // What they say is what the volume gives.
    const { sourceFirstLba, sourceLastLba } = layout.partitions.find((p) => p.number === 3)!
    const slice = new SliceDevice(source, sourceFirstLba * 512, (sourceLastLba - sourceFirstLba + 1) * 512)
    const volume = (await openFileSystem(slice))!
    for (const { path, digest } of system.files) expect(digest).toBe(await fileDigest(volume, path, sha256))
  })

  it('of a file that the drive does not give are empty, and a file named as lost is not asked of it', async () => {
    const { sourceFirstLba, sourceLastLba } = layout.partitions.find((p) => p.number === 3)!
    const slice = new SliceDevice(source, sourceFirstLba * 512, (sourceLastLba - sourceFirstLba + 1) * 512)
    const volume = (await openFileSystem(slice))!
    const [extent] = await volume.fileExtents!(SMALL)
    const bad = sourceFirstLba + extent.offset / 512 + 8
    const failing = new CountingFaulty(source, [{ firstLba: bad, count: 1 }])
    const digestIn = (samples: Awaited<ReturnType<typeof takeSamples>>, path: string) =>
      samples.find((v) => v.partition === 3)!.files.find((f) => f.path === path)!.digest
    const found = await takeSamples(failing, layout, [], sha256)
    expect(digestIn(found, SMALL)).toBeNull()
    expect(digestIn(found, LARGE)).not.toBeNull()
    const before = failing.failed
    expect(before).toBeGreaterThan(0)
    const spared = await takeSamples(failing, layout, [{ sourcePartition: 3, files: [SMALL] }], sha256)
    expect(digestIn(spared, SMALL)).toBeNull()
    expect(failing.failed).toBe(before)
  })
})
