import { describe, expect, it } from 'vitest'
import type { BlockDevice } from '../block/device'
import { FaultyDevice } from '../block/faulty'
import { MemoryDevice } from '../block/memory'
import { MIB } from '../bytes/size'
import { unfinishedMarker } from './marker'
import { writeGpt } from '../scheme/gpt'
import { makeSystemDisk, sha256 } from '../testing-disk'
import { DepthProfile } from './profile'
import { surveyDrive } from './survey'
import { fingerprintOf } from './fingerprint'
import { DriveSurveySchema, PROFILE_BUCKETS } from './types'

describe('a drive that does not tell what it stores', () => {
  const untold = (size: number) => {
    const device = new MemoryDevice(size)
    Object.assign(device, { mapped: undefined })
    return device
  }
  const codes = async (device: BlockDevice) => (await surveyDrive(device, sha256)).findings.map((f) => f.code)

  it('is empty only where nothing is found in places all over it', async () => {
    const size = 512 * 1024 * 1024
    expect(await codes(untold(size))).toEqual([])
    for (const at of [0, 77 * 1024 * 1024, size - 4 * 1024 * 1024]) {
      const device = untold(size)
      await device.write(at, new Uint8Array(4 * 1024 * 1024).fill(0xa5))
      expect(await codes(device)).toContain('drive.unknown-content')
    }
    const short = untold(48 * 1024 * 1024)
    await short.write(33 * 1024 * 1024, new Uint8Array(512).fill(1))
    expect(await codes(short)).toContain('drive.unknown-content')
  })
})

describe('the survey of a drive', () => {
  it('tells partitions, roles, volumes, the system and what is used', async () => {
    const device = await makeSystemDisk()
    const survey = await surveyDrive(device, sha256)
    expect(DriveSurveySchema.parse(survey)).toEqual(survey)
    expect(survey.partitions.map((p) => [p.number, p.role, p.title, p.hasLetter, p.volume?.name])).toEqual([
      [1, 'boot', 'EFI system', false, 'FAT32'],
      [2, 'reserved', 'Reserved', false, undefined],
      [3, 'system', 'Harbour (C:)', true, 'NTFS'],
      [4, 'recovery', 'Recovery', false, 'NTFS'],
    ])
    const system = survey.partitions[2]
    expect(system.system?.name).toBe('Windows')
    expect(system.volume!.usedBytes).toBeGreaterThan(60 * MIB)
    expect(system.volume!.usedBytes).toBeLessThanOrEqual(system.volume!.smallestBytes)
    expect(system.volume!.smallestBytes).toBeLessThanOrEqual(system.sizeBytes)
    expect(survey.loaders.map((l) => l.path).sort()).toEqual([
      '/EFI/BOOT/BOOTX64.EFI',
      '/EFI/Microsoft/Boot/bootmgfw.efi',
    ])
    expect(survey.findings.map((f) => f.code)).toEqual(['drive.hidden-partitions'])
    const total = survey.profile.reduce((sum, share) => sum + (share * survey.sizeBytes) / PROFILE_BUCKETS, 0)
    expect(Math.abs(total - survey.usedBytes) / survey.usedBytes).toBeLessThan(0.01)
  })

  it('calls an empty drive empty, with no partitions and nothing used', async () => {
    const survey = await surveyDrive(new MemoryDevice(64 * MIB), sha256)
    expect([survey.scheme, survey.partitions.length, survey.usedBytes, survey.findings.length]).toEqual([
      'none',
      0,
      0,
      0,
    ])
  })

  it.each<[string, (device: MemoryDevice) => Promise<void>, string, ...string[]]>([
    [
      'a drive whose GPT is gone',
      async (d) => {
        const table = {
          diskGuid: '91f0c1d2-1111-4222-8333-4444555533c7',
          entryCount: 128,
          entrySize: 128,
          partitions: [],
        }
        await writeGpt(d, table)
        await d.write(512, new Uint8Array(512))
        await d.write(d.size - 512, new Uint8Array(512))
      },
      'damaged',
      'drive.gpt-lost',
    ],
    [
      'a drive with an MBR',
      async (d) => {
        const sector = new Uint8Array(512)
        sector.set([0x80, 0, 0, 0, 0x07, 0, 0, 0, 0, 8, 0, 0, 0, 0, 1, 0], 446)
        sector.set([0x55, 0xaa], 510)
        await d.write(0, sector)
      },
      'mbr',
    ],
    [
      'a drive without a table but with something on it',
      (d) => d.write(33 * MIB, new Uint8Array(512).fill(1)),
      'unknown',
      'drive.unknown-content',
    ],
  ])('never calls %s empty', async (_what, make, scheme, ...codes) => {
    const device = new MemoryDevice(64 * MIB)
    await make(device)
    const survey = await surveyDrive(device, sha256)
    expect([survey.scheme, survey.findings.map((f) => f.code)]).toEqual([scheme, codes])
    expect(DriveSurveySchema.parse(survey)).toEqual(survey)
  })

  it('calls a drive empty that was written with zeros only', async () => {
    const device = new MemoryDevice(64 * MIB)
    await device.write(5 * MIB, new Uint8Array(MIB))
    expect((await surveyDrive(device, sha256)).scheme).toBe('none')
  })

  it('warns of an unfinished copy', async () => {
    const device = new MemoryDevice(64 * MIB)
    await device.write(0, unfinishedMarker(512, { note: 'Ticket desk' }))
    const survey = await surveyDrive(device, sha256)
    expect(survey.scheme).toBe('unfinished')
    expect(survey.findings[0].evidence).toBe('Ticket desk')
  })

  it('shows a damaged volume as damaged and the others as they are', async () => {
    const device = await makeSystemDisk()
    // The first file record of the system volume loses its mark, and so does its copy.
    const survey = await surveyDrive(device, sha256)
    const { startBytes } = survey.partitions[2]
    const boot = new Uint8Array(512)
    await device.read(startBytes, boot)
    for (const field of [48, 56]) {
      const lcn = Number(new DataView(boot.buffer).getBigUint64(field, true))
      await device.write(startBytes + lcn * 4096, new Uint8Array(512))
    }
    const damaged = await surveyDrive(device, sha256)
    expect(damaged.partitions[2].findings.map((f) => [f.severity, f.code])).toEqual([
      ['damage', 'volume.damaged'],
      ['caution', 'volume.every-sector'],
    ])
    expect(damaged.partitions[0].findings).toEqual([])
    expect(damaged.partitions[3].volume?.label).toBe('Recovery')
  })

  it.each([
    ['the protective MBR', 0],
    ['the first header', 1],
    ['the first entries', 2],
    ['the last entries', -33],
    ['the last header', -1],
  ])('reads around %s where that does not read', async (_what, place) => {
    const device = await makeSystemDisk()
    const firstLba = place < 0 ? device.size / 512 + place : place
    const survey = await surveyDrive(new FaultyDevice(device, [{ firstLba, count: 1 }]), sha256)
    const whole = await surveyDrive(device, sha256)
    expect(survey.scheme).toBe('gpt')
    expect(survey.partitions).toEqual(whole.partitions)
  })

  it('opens a volume whose first sector does not read by the copy that it keeps', async () => {
    const device = await makeSystemDisk()
    const whole = await surveyDrive(device, sha256)
    for (const at of [0, 2]) {
      const { firstLba } = whole.partitions[at]
      const survey = await surveyDrive(new FaultyDevice(device, [{ firstLba, count: 1 }]), sha256)
      expect(survey.partitions[at].volume).toEqual(whole.partitions[at].volume)
      expect(survey.partitions[at].findings.map((f) => f.code)).toContain('volume.start-from-backup')
    }
  })

  it('names sectors of the drive where a volume does not read', async () => {
    const device = await makeSystemDisk()
    const whole = (await surveyDrive(device, sha256)).partitions[2]
    const boot = new Uint8Array(512)
    await device.read(whole.startBytes, boot)
    const table = whole.firstLba + Number(new DataView(boot.buffer).getBigUint64(48, true)) * 8
    const mirror = whole.firstLba + Number(new DataView(boot.buffer).getBigUint64(56, true)) * 8
    const faults = [table, mirror].map((firstLba) => ({ firstLba, count: 1 }))
    const survey = await surveyDrive(new FaultyDevice(device, faults), sha256)
    expect(survey.partitions[2].findings.map((f) => f.sentence).join(' ')).toContain(`sector ${table}`)
    expect(survey.partitions[3].volume?.label).toBe('Recovery')
  })

  it('has a fingerprint that changes with the table only', async () => {
    const device = await makeSystemDisk()
    const before = await fingerprintOf(device)
    await device.write(200 * MIB, new Uint8Array(512).fill(1))
    expect(await fingerprintOf(device)).toBe(before)
    await device.write(2 * 512, new Uint8Array(512))
    expect(await fingerprintOf(device)).not.toBe(before)
  })
})

describe('the depth profile', () => {
  it('adds runs up to what they cover', () => {
    const profile = new DepthProfile(PROFILE_BUCKETS * 1000)
    profile.add(500, 1000)
    profile.add(PROFILE_BUCKETS * 1000 - 250, 250)
    const shares = profile.shares()
    expect([shares[0], shares[1], shares[2], shares.at(-1)]).toEqual([0.5, 0.5, 0, 0.25])
  })
})
