import { describe, expect, it } from 'vitest'
import { MemoryDevice } from '../block/memory'
import { GIB, MIB } from '../bytes/size'
import { readScheme } from '../scheme'
import { surveyDrive } from '../survey/survey'
import { makeSystemDisk, sha256, storedDigest } from '../testing-disk'
import { pattern } from '../testing'
import { makeDataVolume, whyNoDataVolume } from './data-volume'

const about = { chance: pattern(48, 7), time: 134_223_588_064_620_000n }

describe('a data volume on an erased drive', () => {
  it.each([
    ['ntfs', 512, 240 * GIB],
    ['exfat', 512, 240 * GIB],
    ['exfat', 4096, 2000 * GIB],
    ['ntfs', 512, 240 * 1000 ** 3 + 512 * 77],
  ] as const)('of %s with sectors of %i is all there is of it, and sound', async (kind, sector, bytes) => {
    const device = new MemoryDevice(Math.floor(bytes / sector) * sector, sector)
    await makeDataVolume(device, { ...about, kind, label: 'Old films' })
    const { findings, partitions } = await surveyDrive(device, sha256)
    expect([...findings, ...partitions.flatMap((p) => p.findings)]).toEqual([])
    const [{ startBytes, sizeBytes, volume }] = partitions
    expect([partitions.length, startBytes, volume?.kind, volume?.label]).toEqual([1, MIB, kind, 'Old films'])
    expect(device.size - startBytes - sizeBytes).toBeLessThan(2.1 * MIB)
    expect(volume!.totalBytes).toBeGreaterThan(sizeBytes - 2 * MIB)
  })

  it('never takes the place of something', async () => {
    const device = await makeSystemDisk()
    const before = await storedDigest(device)
    await expect(makeDataVolume(device, { ...about, kind: 'ntfs', label: '' })).rejects.toThrow(/partition table/)
    expect(await storedDigest(device)).toEqual(before)
  })

  it('has its table last, so that what is cut off before that has none', async () => {
    class Failing extends MemoryDevice {
      left = Infinity
      override async write(offset: number, from: Uint8Array): Promise<void> {
        if (--this.left < 0) throw new Error('cut off')
        await super.write(offset, from)
      }
    }
    const whole = new Failing(64 * MIB)
    let writes = 0
    whole.left = 1e6
    await makeDataVolume(whole, { ...about, kind: 'exfat', label: 'Nord' })
    writes = 1e6 - whole.left
    expect(writes).toBeGreaterThan(10)
    for (let left = 0; left < writes; left++) {
      const device = new Failing(64 * MIB)
      device.left = left
      await expect(makeDataVolume(device, { ...about, kind: 'exfat', label: 'Nord' })).rejects.toThrow('cut off')
      const reading = await readScheme(device)
      // Of a table that is there in part the volume is whole already.
      if (reading && reading.scheme !== 'damaged' && reading.partitions.length > 0) {
        const [{ volume }] = (await surveyDrive(device, sha256)).partitions
        expect([volume?.kind, volume?.label]).toEqual(['exfat', 'Nord'])
      }
    }
  })

  it('is refused where the drive or the label is none for it', async () => {
    const device = new MemoryDevice(8 * GIB, 4096)
    expect(whyNoDataVolume(device, 'ntfs')).toMatch(/512-byte/)
    expect(whyNoDataVolume(device, 'exfat')).toBeUndefined()
    await expect(makeDataVolume(device, { ...about, kind: 'ntfs', label: '' })).rejects.toThrow(/512-byte/)
    await expect(makeDataVolume(device, { ...about, kind: 'exfat', label: 'x'.repeat(12) })).rejects.toThrow(/11/)
    const small = new MemoryDevice(4 * MIB)
    await expect(makeDataVolume(small, { ...about, kind: 'exfat', label: '' })).rejects.toThrow(/too small/)
    expect((await device.mapped(0, device.size)).length + (await small.mapped(0, small.size)).length).toBe(0)
  })
})
